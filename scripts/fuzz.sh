#!/usr/bin/env bash
# Builds the fuzz targets with clang and runs them. Inputs that reach something new are collected in build/fuzz-corpus/.
# usage: fuzz.sh [SECONDS [TARGET...]]              each target for some seconds (20)
#        fuzz.sh --campaign MINUTES [TARGET...]     all targets in turn on all processors, that long in all; then small
#                                                   corpora go into fuzz/corpus/, and a table is printed
#        fuzz.sh --keep [TARGET...]                 only the corpora and the table, of runs that were made
#        fuzz.sh --list                             the names of the targets
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh test
minutes=
seconds=20
case ${1:-} in
  --campaign) minutes=${2:?usage: fuzz.sh --campaign MINUTES [TARGET...]}; shift 2 ;;
  --keep) minutes=0; shift ;;
  --list) ;;
  *) seconds=${1:-20}; shift || true ;;
esac
scripts/build.sh fuzz fuzz_any make_demo make_seeds >/dev/null
program=$PWD/build/fuzz/fuzz/fuzz_any
if [ "${1:-}" = --list ]; then exec "$program"; fi
mapfile -t targets < <([ $# -gt 0 ] && printf '%s\n' "$@" || "$program")
seeds=build/fuzz-seeds
corpus=build/fuzz-corpus

# Images whose structures lie far apart, as the targets NAME-pages have them: how many pages, their numbers, the pages.
pages_of() {
  python3 -c 'import sys
page, image = 4096, open(sys.argv[1], "rb")
kept, at = [], 0
while (data := image.read(page)) and len(kept) < 60:
    if data.strip(b"\0") and len(data) == page and not data.startswith(b"sector "): kept.append((at, data))
    at += 1
sys.stdout.buffer.write(bytes([len(kept)]) + b"".join(n.to_bytes(4, "little") for n, _ in kept) + b"".join(d for _, d in kept))' "$1"
}
make_pages() {
  local whole=$seeds/whole options
  mkdir -p "$corpus/xfs-pages" "$corpus/btrfs-pages" "$seeds-tree/f"
  cp scripts/lint.sh "$seeds-tree"
  ln -sf ../lint.sh "$seeds-tree/f/link"
  if command -v mkfs.xfs >/dev/null; then
    printf '/\n0 0\nd--755 0 0\nlint.sh ---644 0 0 scripts/lint.sh\nf d--755 0 0\nlink l--777 0 0 ../lint.sh\n$\n$\n' >"$seeds/xfs.list"
    for options in "" "-m crc=0 -b size=512"; do
      rm -f "$whole" && truncate -s 320M "$whole"
      mkfs.xfs -q -f $options -p "$seeds/xfs.list" "$whole" && pages_of "$whole" >"$corpus/xfs-pages/seed${options// /}" || true
    done
  fi
  if command -v mkfs.btrfs >/dev/null; then
    rm -f "$whole" && truncate -s 64M "$whole"
    mkfs.btrfs -q --mixed -n 4096 --shrink --rootdir "$seeds-tree" "$whole" >/dev/null && pages_of "$whole" >"$corpus/btrfs-pages/seed" || true
  fi
  if command -v makefs >/dev/null; then
    mkdir -p "$corpus/ufs-pages"
    for options in "le 1" "be 2"; do
      set -- $options
      makefs -t ffs -B "$1" -o "version=$2" -s 2m "$whole" "$seeds-tree" >/dev/null && pages_of "$whole" >"$corpus/ufs-pages/seed-$1" || true
    done
  fi
  local set target image
  for set in minix1:minix minix3:minix nilfs:nilfs2 jfs:jfs reiser:reiserfs f2fs:f2fs hfs:hfs apfs:apfs md-5:md md-1-old:md md-6:md ddf-5:ddf ddf-two:ddf imsm-10:imsm imsm-two:imsm lvm:lvm2 luks-2-argon2i:luks luks-1:luks \
    affs-ofs:affs affs-ffs:affs sysv4:sysv xenix:sysv befs:befs befs-big:befs qnx4:qnx4 qnx6:qnx6 qnx6-big:qnx6 hpfs:hpfs; do
    target=${set#*:}
    mkdir -p "$corpus/$target-pages" "$seeds-kernel"
    rm -f "$seeds-kernel"/*
    tar xf "tests/fixtures/kernel/${set%:*}.tar.xz" -C "$seeds-kernel"
    image=$(ls "$seeds-kernel" | head -1)
    pages_of "$seeds-kernel/$image" >"$corpus/$target-pages/seed-${set%:*}"
  done
  rm -rf "$whole" "$seeds-kernel"
}

make_seeds() {
  build/fuzz/make_demo "$seeds" >/dev/null
  rm -f "$seeds"/exhibit-card.*
  build/fuzz/fuzz/make_seeds "$seeds"
  # What the system's own tools make, where they are there.
  if command -v mkfs.erofs >/dev/null; then mkfs.erofs --quiet -zlz4hc -Efragments "$seeds/erofs" fuzz >/dev/null 2>&1 || true; fi
  if command -v mkfs.cramfs >/dev/null; then mkfs.cramfs fuzz "$seeds/cramfs" >/dev/null 2>&1 || true; fi
  if command -v genromfs >/dev/null; then genromfs -d scripts -f "$seeds/romfs" || true; fi
  if command -v mkfs.ubifs >/dev/null; then
    mkfs.ubifs -r scripts -m 512 -e 15360 -c 60 -o "$seeds/ubifs" || true
    printf '[a]\nmode=ubi\nimage=%s/ubifs\nvol_id=0\nvol_type=dynamic\nvol_name=a\nvol_size=400KiB\n' "$seeds" >"$seeds/ubi.cfg"
    ubinize -o "$seeds/ubi" -m 512 -p 16KiB "$seeds/ubi.cfg" || true
  fi
  make_pages
  if command -v mkfs.jffs2 >/dev/null; then mkfs.jffs2 -l -x zlib -r scripts -o "$seeds/jffs2-rtime" || true; fi
  if command -v fiptool >/dev/null; then fiptool create --tb-fw scripts/fuzz.sh --nt-fw scripts/lint.sh "$seeds/fip" || true; fi
  if command -v mkbootimg >/dev/null; then mkbootimg --kernel scripts/fuzz.sh --ramdisk scripts/lint.sh -o "$seeds/android-boot" || true; fi
  # Small images of kinds that no tool here makes.
  mkdir -p "$corpus"/{vdi,qed,cd,cue,sparse-bundle,bfs}
  tar xf tests/fixtures/kernel/bfs.tar.xz -O >"$corpus/bfs/seed"
  truncate -s 8192 "$corpus/bfs/seed"
  python3 - "$corpus" <<'SMALL'
import struct, sys
def put(name, data): open(sys.argv[1] + '/' + name + '/seed', 'wb').write(data)
vdi = bytearray(1024 + 512)
struct.pack_into('<IIIII', vdi, 64, 0xBEDA107F, 0x10001, 400, 4, 0)
struct.pack_into('<IIIIIIIQIIII', vdi, 340, 512, 1024, 0, 0, 0, 512, 0, 2048, 512, 0, 4, 1)
vdi[392] = vdi[408] = 1; vdi[424] = vdi[440] = 2
struct.pack_into('<IIII', vdi, 512, 0, 0xFFFFFFFF, 0xFFFFFFFE, 0)
put('vdi', bytes(vdi))
qed = bytearray(4096 * 3 + 64)
struct.pack_into('<4sIIIQQQQQII', qed, 0, b'QED\0', 4096, 1, 1, 1, 0, 0, 4096, 16384, 64, 4)
qed[64:68] = b'base'
struct.pack_into('<Q', qed, 4096, 8192); struct.pack_into('<QQ', qed, 8192, 12288, 1)
put('qed', bytes(qed))
sector = b'\0' + b'\xff' * 10 + b'\0' + bytes([0, 2, 0, 1]) + b'd' * 2048
put('cd', (sector.ljust(2352, b'e')) * 3)
put('cue', b'FILE "a.bin" BINARY\nTRACK 01 MODE1/2352\nINDEX 01 00:00:00\nTRACK 02 AUDIO\nTITLE "b"\nINDEX 00 00:01:00\nINDEX 01 00:02:00\n')
put('sparse-bundle', b'<plist version="1.0"><dict><key>t</key><string>com.apple.diskimage.sparsebundle</string><key>band-size</key><integer>4096</integer><key>size</key><integer>9000</integer></dict></plist>')
SMALL
  local of
  for of in decode-old-zip run-ranges; do
    mkdir -p "$corpus/$of"
    for image in "$seeds/$of"-*; do cp "$image" "$corpus/$of/seed-$(basename "$image")"; done
  done
  mkdir -p "$corpus/decode-nrv"
  printf '\0\335ab\1\0' >"$corpus/decode-nrv/seed"
  # The words of a command line.
  mkdir -p "$corpus/command-line"
  while read -r words; do
    tr ' ' '\0' <<<"$words" | head -c -1 >"$corpus/command-line/seed-$(cksum <<<"$words" | cut -d ' ' -f 1)"
  done <<'LINES'
list --paths --match *.csv --kinds text,picture card.img/1/etc
unpack tidepool.skin/textures --into large --existing number --deep=programs --receipt r.json
rebuild a.zip --set a/b.txt=new.txt --remove c --into d.zip --quick
find --like a.png --newest shelf --json --max-entries 4KiB
layout check x.layout pack --page p.html
study a b --draft d.layout --explain -q
--help
unpack --hepl -x
LINES
  # A description and the pack that it describes make one input of the target "layout".
  mkdir -p "$corpus/layout"
  while read -r layout pack; do
    { cat "layouts/$layout.layout"; printf '\0\0'; cat "$seeds/packs/$pack"; } >"$corpus/layout/seed-$layout"
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
  # A family's number, a wish, a pack.
  mkdir -p "$corpus/rewrite-described"
  local number=0 pack wish
  for pack in tidepool.shoal kelp-forest.kelp tide-gauge.gauge voices.tern film-corner.reef hall.ledger levels.eel letters.drift drawings.cockle gauge-notes.swell; do
    for wish in '\0' A '\201' '\301'; do
      { printf "\\$(printf %o $number)$wish"; cat "$seeds/packs/$pack"; } >"$corpus/rewrite-described/seed-$number-$(printf "$wish" | od -An -tx1 | tr -d ' ')"
    done
    number=$((number + 1))
  done
  # What is written again begins with four bytes that say how.
  local kind file
  for kind in ext fat iso9660 squashfs cab cfb; do
    mkdir -p "$corpus/rewrite-$kind"
    for file in '\0A\201\301' '\1\2\301\302' '\201\202A\1'; do
      { printf "$file"; cat "$seeds/whole-$kind"; } >"$corpus/rewrite-$kind/seed-$(printf "$file" | od -An -tx1 | tr -d ' ')"
    done
  done
  for kind in zip tar cpio ar gzip bzip2 zstd lz4; do
    mkdir -p "$corpus/rewrite-$kind"
    for file in $(find "$seeds" -type f -size -64k -name "*$kind*"); do
      { printf '\0A\201\301'; cat "$file"; } >"$corpus/rewrite-$kind/seed-$(basename "$file")"
    done
  done
}

# Runs one target; its log stays.
run_target() {
  local target=$1 seconds=$2 more=$seeds
  mkdir -p "$corpus/$target" "fuzz/corpus/$target"
  # those of all others take the most of a minute to read, and are of no use to whoever has some
  if ls "$corpus/$target"/seed* >/dev/null 2>&1; then more=; fi
  FUZZ_TARGET=$target "$program" -max_total_time="$seconds" -max_len=262144 -timeout=60 -rss_limit_mb=4096 -print_final_stats=1 \
    -artifact_prefix="$corpus/$target-" "$corpus/$target" "fuzz/corpus/$target" $more >"$corpus/$target.log" 2>&1
}

# The smallest inputs that reach what the target's whole corpus reaches, as far as they are small.
keep_small() {
  local target=$1 kept=build/fuzz-kept/$1 most=24
  rm -rf "$kept"
  mkdir -p "$kept" "fuzz/corpus/$target"
  FUZZ_TARGET=$target "$program" -merge=1 -max_len=4096 -timeout=60 -rss_limit_mb=4096 "$kept" "fuzz/corpus/$target" "$corpus/$target" \
    "$seeds" >/dev/null 2>&1 || true
  find "fuzz/corpus/$target" -type f ! -name 'regression-*' -delete
  find "$kept" -type f -size -4097c -printf '%s %p\n' | sort -n | awk -v most=$most '{ all[NR] = $2 }
    END { step = NR > most ? NR / most : 1; for (i = NR; i > 0; i -= step) print all[int(i) < 1 ? 1 : int(i)] }' | sort -u |
    xargs -r -I{} cp {} "fuzz/corpus/$target/"
}

tell() {
  [ -f "$corpus/$1.log" ] || return 0
  local target=$1 log=$corpus/$1.log last
  last=$(grep -E '^#[0-9]+.*cov:' "$log" | tail -n 1) || last= # one that failed at a seed tells none
  printf '| %s | %s | %s | %s | %s |\n' "$target" "$(sed -n 's/^stat::number_of_executed_units: *//p' "$log")" \
    "$(sed -n 's/.*cov: \([0-9]*\).*/\1/p' <<<"$last")" "$(sed -n 's/.*ft: \([0-9]*\).*/\1/p' <<<"$last")" \
    "$(find "$corpus" -maxdepth 1 -name "$target-crash-*" -o -maxdepth 1 -name "$target-timeout-*" -o -maxdepth 1 -name "$target-oom-*" | wc -l)"
}

export -f run_target keep_small
export program seeds corpus
mkdir -p "$seeds" "$corpus"
make_seeds
if [ -z "$minutes" ]; then
  for target in "${targets[@]}"; do
    run_target "$target" "$seconds" || { tail -n 40 "$corpus/$target.log"; exit 1; }
    echo "$target: no faults in $seconds s"
  done
  exit 0
fi
each=$((minutes * 60 * $(nproc) / ${#targets[@]}))
if [ "$minutes" -gt 0 ]; then
  printf '%s\n' "${targets[@]}" | xargs -P "$(nproc)" -I{} bash -c "run_target {} $each || true"
fi
printf '%s\n' "${targets[@]}" | xargs -P "$(nproc)" -I{} bash -c 'keep_small {}'
printf '| target | executions | edges | features | findings |\n|---|---|---|---|---|\n'
for target in "${targets[@]}"; do tell "$target"; done
