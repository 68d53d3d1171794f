#!/usr/bin/env bash
# Runs the tests in a build that counts lines and branches, and prints both per folder of src/. usage: coverage.sh
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
scripts/build.sh coverage
find build/coverage -name '*.gcda' -delete
ctest --preset coverage -j"$(nproc)" >/dev/null || echo "coverage.sh: some tests failed; what ran is counted"
python3 scripts/coverage.py build/coverage
