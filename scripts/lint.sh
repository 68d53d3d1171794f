#!/usr/bin/env bash
# Checks the format of every source file and runs clang-tidy on src/. usage: lint.sh [--fix-format]
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
mapfile -t files < <(git ls-files '*.cpp' '*.h')
if [ "${1:-}" = --fix-format ]; then
  clang-format -i "${files[@]}"
  exit 0
fi
clang-format --dry-run -Werror "${files[@]}"
cmake --preset release >/dev/null
# clang does not read the precompiled headers that g++ made.
mkdir -p build/lint
sed -e 's/-Winvalid-pch//g; s/-include [^ ]*cmake_pch.hxx//g; s#/usr/bin/ccache ##g' build/release/compile_commands.json > build/lint/compile_commands.json
git ls-files 'src/*.cpp' | xargs -P "$(nproc)" -n 4 clang-tidy --quiet -p build/lint 2>/dev/null
echo "lint: ${#files[@]} files are in order"
