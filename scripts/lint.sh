#!/usr/bin/env bash
# Checks the format of every source file and runs clang-tidy on src/. usage: lint.sh [--fix-format | --deep [FILE...]]
# --deep also runs the static analyzer, which takes almost four times as long: before a change lands, on its files.
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
checks=(--checks=-clang-analyzer-*)
sources=()
if [ "${1:-}" = --deep ]; then
  checks=()
  sources=("${@:2}")
fi
[ ${#sources[@]} -gt 0 ] || mapfile -t sources < <(git ls-files 'src/*.cpp')
printf '%s\0' "${sources[@]}" | xargs -0 -P "$(nproc)" -n 4 clang-tidy --quiet "${checks[@]}" -p build/lint 2>/dev/null
echo "lint: ${#files[@]} files are in order"
