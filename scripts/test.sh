#!/usr/bin/env bash
# Sets up a Debian 12 machine, builds with AddressSanitizer and UndefinedBehaviorSanitizer, and runs every test.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
scripts/build.sh debug
ctest --preset debug -j"$(nproc)"
