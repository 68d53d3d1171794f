#!/usr/bin/env bash
# Builds the benchmarks and prints each measured ratio beside its goal. Needs about 6 GiB of memory for tmpfs.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
scripts/build.sh bench operculum operculum_bench
build/bench/bench/operculum_bench "$PWD/build/bench/operculum" "$@"
