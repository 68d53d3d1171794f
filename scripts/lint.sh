#!/usr/bin/env bash
# Checks the format of every source file and runs clang-tidy on what changed in src/ since the commit in scripts/lint-base,
# up to which everything was checked. usage: lint.sh [--fix-format | --all | --deep [FILE...]]
# --all checks every file (20 minutes on 2 cores; then put the commit into scripts/lint-base); --deep also runs the static
# analyzer, which takes almost four times as long: before a change lands, on its files.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
mapfile -t files < <(git ls-files '*.cpp' '*.h')
if [ "${1:-}" = --fix-format ]; then
  clang-format -i "${files[@]}"
  exit 0
fi
clang-format --dry-run -Werror "${files[@]}"
# Each file by itself; and clang does not read the precompiled headers that g++ made.
cmake --preset release -B build/lint -DOPERCULUM_TOGETHER=OFF >/dev/null
sed -i -e 's/-Winvalid-pch//g; s/-include [^ ]*cmake_pch.hxx//g; s#/usr/bin/ccache ##g' build/lint/compile_commands.json
checks=(--checks=-clang-analyzer-*)
sources=()
base=$(cat scripts/lint-base)
case "${1:-}" in
  --all) mapfile -t sources < <(git ls-files 'src/*.cpp') ;;
  --deep)
    checks=()
    sources=("${@:2}")
    [ ${#sources[@]} -gt 0 ] || mapfile -t sources < <(git ls-files 'src/*.cpp')
    ;;
  *)
    if git cat-file -e "$base^{commit}" 2>/dev/null; then
      mapfile -t sources < <(git diff --name-only --diff-filter=d "$base" -- 'src/*.cpp')
    else
      echo "lint: the commit in scripts/lint-base is not in this checkout; only the format is checked"
    fi
    ;;
esac
[ ${#sources[@]} -eq 0 ] || printf '%s\0' "${sources[@]}" | xargs -0 -P "$(nproc)" -n 4 clang-tidy --quiet "${checks[@]}" -p build/lint 2>/dev/null
echo "lint: ${#files[@]} files are in order, ${#sources[@]} of them looked at by clang-tidy"
