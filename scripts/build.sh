#!/usr/bin/env bash
# Configures and builds one preset. usage: build.sh release|debug|bench|fuzz [TARGET...]
set -euo pipefail
cd "$(dirname "$0")/.."
preset=${1:?usage: build.sh PRESET [TARGET...]}
shift
cmake --preset "$preset" >/dev/null
cmake --build --preset "$preset" ${1:+--target "$@"}
