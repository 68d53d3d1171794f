#!/usr/bin/env bash
# Builds the fuzz targets with clang and runs each for some seconds. usage: fuzz.sh [SECONDS [FORMAT...]]
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
seconds=${1:-20}
shift || true
[ $# -gt 0 ] || { mapfile -t formats < fuzz/targets.txt; formats+=(layout study); }
[ $# -eq 0 ] || formats=("$@")
scripts/build.sh fuzz make_demo make_seeds "${formats[@]/#/fuzz_}"
build/fuzz/make_demo build/fuzz-seeds >/dev/null
rm -f build/fuzz-seeds/exhibit-card.*
build/fuzz/fuzz/make_seeds build/fuzz-seeds
# What the system's own tools make, where they are there.
if command -v mkfs.erofs >/dev/null; then mkfs.erofs --quiet -zlz4hc -Efragments build/fuzz-seeds/erofs fuzz >/dev/null 2>&1 || true; fi
if command -v mkfs.cramfs >/dev/null; then mkfs.cramfs fuzz build/fuzz-seeds/cramfs >/dev/null 2>&1 || true; fi
if command -v genromfs >/dev/null; then genromfs -d fuzz -f build/fuzz-seeds/romfs || true; fi
if command -v mkfs.ubifs >/dev/null; then
  mkfs.ubifs -r fuzz -m 512 -e 15360 -c 60 -o build/fuzz-seeds/ubifs || true
  printf '[a]\nmode=ubi\nimage=build/fuzz-seeds/ubifs\nvol_id=0\nvol_type=dynamic\nvol_name=a\nvol_size=200KiB\n' >build/fuzz-seeds/ubi.cfg
  ubinize -o build/fuzz-seeds/ubi -m 512 -p 16KiB build/fuzz-seeds/ubi.cfg || true
fi
if command -v mkfs.jffs2 >/dev/null; then mkfs.jffs2 -l -x zlib -r fuzz -o build/fuzz-seeds/jffs2-rtime || true; fi
if command -v fiptool >/dev/null; then fiptool create --tb-fw scripts/fuzz.sh --nt-fw scripts/lint.sh build/fuzz-seeds/fip || true; fi
if command -v mkbootimg >/dev/null; then mkbootimg --kernel scripts/fuzz.sh --ramdisk scripts/lint.sh -o build/fuzz-seeds/android-boot || true; fi
# A description and the pack that it describes make one input of fuzz_layout.
mkdir -p build/fuzz-corpus/layout
while read -r layout pack; do
  { cat "layouts/$layout.layout"; printf '\0\0'; cat "build/fuzz-seeds/packs/$pack"; } >"build/fuzz-corpus/layout/seed-$layout"
done <<'PACKS'
shoal tidepool.shoal
kelp kelp-forest.kelp
tern voices.tern
mussel survey.bed
reef film-corner.reef
harbour chart-setup.harbour
ledger hall.ledger
eel levels.eel
drift letters.drift
cockle drawings.cockle
swell gauge-notes.swell
PACKS
for format in "${formats[@]}"; do
  mkdir -p "build/fuzz-corpus/$format"
  "build/fuzz/fuzz/fuzz_$format" -max_total_time="$seconds" -max_len=262144 -timeout=60 -rss_limit_mb=4096 -print_final_stats=0 \
    -artifact_prefix="build/fuzz-corpus/$format-" "build/fuzz-corpus/$format" build/fuzz-seeds 2>&1 | tail -n 2
  echo "fuzz_$format: no faults in $seconds s"
done
