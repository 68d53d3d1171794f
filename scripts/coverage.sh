#!/usr/bin/env bash
# Runs the tests in a build that counts lines and branches, and prints both per folder of src/, and how many of the lines
# that refuse an input were reached; --refusals names those that were not. usage: coverage.sh [--refusals]
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh coverage
scripts/build.sh coverage
build=$PWD/build/coverage
rm -rf "$build/raw" && mkdir "$build/raw"
# Of each program some files, to which all its runs are added: mapped from the start (%c), so that what runs in the sandbox
# counts, too, though it may not open them.
export LLVM_PROFILE_FILE=$build/raw/%4m%c.profraw
ctest --preset coverage -j"$(nproc)" >"$build/tests.log" || echo "coverage.sh: some tests failed; what ran is counted"
llvm-profdata-14 merge -sparse "$build"/raw/*.profraw -o "$build/all.profdata"
llvm-cov-14 export -format=lcov -instr-profile="$build/all.profdata" "$build/tests/operculum_tests" \
  -object "$build/operculum" -object "$build/tests/operculum_planted" "$PWD/src" >"$build/all.lcov"
python3 scripts/coverage.py "$build/all.lcov" "$@"
