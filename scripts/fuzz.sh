#!/usr/bin/env bash
# Builds the fuzz targets with clang and runs each for some seconds. usage: fuzz.sh [SECONDS [FORMAT...]]
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
seconds=${1:-20}
shift || true
[ $# -gt 0 ] || mapfile -t formats < fuzz/targets.txt
[ $# -eq 0 ] || formats=("$@")
scripts/build.sh fuzz make_demo "${formats[@]/#/fuzz_}"
build/fuzz/make_demo build/fuzz-seeds >/dev/null
for format in "${formats[@]}"; do
  mkdir -p "build/fuzz-corpus/$format"
  "build/fuzz/fuzz/fuzz_$format" -max_total_time="$seconds" -max_len=16384 -timeout=20 -rss_limit_mb=4096 -print_final_stats=0 \
    -artifact_prefix="build/fuzz-corpus/$format-" "build/fuzz-corpus/$format" build/fuzz-seeds 2>&1 | tail -n 2
  echo "fuzz_$format: no faults in $seconds s"
done
