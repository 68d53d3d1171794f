#!/usr/bin/env bash
# Takes docs/screenshots/*.png: each main command on the demo data, in a terminal window of about 1280x800 under Xvfb.
# usage: screenshots.sh [NAME...]   Needs the packages xvfb, xterm, imagemagick; run scripts/demo.sh first.
set -euo pipefail
cd "$(dirname "$0")/.."
root=$PWD
declare -A commands=(
  [identify]="operculum identify tidepool.skin exhibit-7.tar.xz chart-setup.exe postcard.zip"
  [list]="operculum list tidepool.skin; operculum list --summary tidepool.skin; operculum list --tree --deep exhibit-7.tar.xz | head -n 12"
  [unpack]="operculum unpack gauge-keys.zip --into shots/keys; operculum unpack gauge-logs.zip --into shots/logs; operculum unpack tidepool.skin/textures --into shots/textures --receipt shots.json; operculum unpack exhibit-7.tar.xz/opt/kiosk/kiosk.zip --into shots/kiosk; operculum unpack tidepool.skin --match '*.ppm' --dry-run; operculum discard --verbose shots.json"
  [verify]="operculum show exhibit-7.tar.xz/opt/kiosk/kiosk.zip/packs/tidepool.skin/scripts/tide.lua; operculum show tidepool.skin/sounds/surf.wav --length 96; operculum verify gauge-logs.zip; operculum verify --deep exhibit-7.tar.xz"
  [layout-check]="operculum layout check draft.layout | head -n 9; operculum layout check layouts/film.layout packs/film-corner.reef --fields 10; operculum layout check reef packs/film-corner.reef --entry 4"
  [card]="operculum list exhibit-card.qcow2; operculum show exhibit-card.qcow2/2/opt/kiosk/media.squashfs/packs/tidepool.skin/scripts/tide.lua; operculum identify rescued/gallery-disk-1.img --password-file gallery-passphrase.txt; operculum show gallery/gallery-disk-0.img/exhibits/hall/captions.zip/crab.txt --password-file gallery-passphrase.txt; operculum list --view snapshots gallery/gallery-disk-0.img/exhibits --password-file gallery-passphrase.txt"
  [mount]="mkdir view; operculum mount exhibit-card.qcow2 view; find view | head -n 30; fusermount3 -u view"
  [install-report]="operculum identify chart-display.exe; operculum install-report chart-display.exe --scripts | head -n 34"
  [firmware]="operculum identify --search gauge-flash.bin; operculum show gauge-update-2.4.swell/bundle.itb/images/rootfs/etc/gauge.conf; operculum list --view with-deleted gauge-update-2.4.swell/settings.jffs2"
  [rebuild]="operculum rebuild exhibit-card.img/2/opt/kiosk/media.squashfs/packs/tidepool.skin --set textures/crab.ppm=my-textures/limpet.ppm --into shot.img; operculum rebuild textures-disc.iso --trim --into shot.iso; operculum rebuild exhibit-7.tar.xz/opt/kiosk/kiosk.zip/packs/tidepool.skin --set textures/crab.ppm=my-textures/limpet.ppm --add textures/whelk.ppm=my-textures/limpet.ppm --remove credits.txt --dry-run; operculum rebuild exhibit-7.tar.xz/opt/kiosk/kiosk.zip/packs/tidepool.skin --set textures/crab.ppm=my-textures/limpet.ppm --in-place --receipt shot.json; operculum rebuild packs/tidepool.shoal --add textures/pier.txt=hostname --rename textures/crab.txt=textures/whelk.txt --into shot.shoal; operculum rebuild packs/kelp-forest.kelp --remove forest/floor/sand.map --rename forest/plain=forest/meadow --into shot.kelp; operculum pack my-textures --like tidepool.skin/textures --changed-only --into crabs2.skin --last-among packs; operculum convert packs/tidepool.shoal --as zip --into shot.zip; operculum convert exhibit-7.tar.xz --as ar --into shot.ar --strict; operculum discard shot.json"
  [study]="operculum study packs/charts-24.hob packs/charts-19.hob --draft shot.layout --explain; operculum list packs/charts-24.hob --layout shot.layout | head -n 8"
  [compare]="operculum compare --deep exhibit-7.tar.xz exhibit-8.tar.zst"
  [find]="operculum identify backups; operculum find backups --match tide.log --versions; operculum find backups --text 'under water'; operculum catalogue desk.db backups loading; operculum find --catalogue desk.db --match tide.log --newest; operculum order loading --by number --why textures/crab.ppm; operculum order loading --by number --only-conflicts"
  [formats]="operculum doctor; operculum formats | head -n 34"
)
names=("$@")
[ $# -gt 0 ] || names=(identify list unpack verify layout-check card mount compare find install-report firmware rebuild study formats)
mkdir -p docs/screenshots
display=:97
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server' EXIT
sleep 1
desk=/tmp/saltmarsh-point
rm -rf "$desk"
cp -r build/demo "$desk"
cd "$desk"
mkdir layouts
cp "$root/layouts/reef.layout" layouts/film.layout
printf '%s\n' 'layout "Draft"' 'record Header {' '  magic bytes "REEFDISC"' '  root  u23 * 512' '}' 'record Node {' '  at   u32' '  size u32' \
  '  name text sized u8' '}' 'super = Header at 512' 'nodes = Node[super.count] at 1024' 'tree_of_nodes = Node[4] at 1024' \
  'entry for n in tree_of_nodes {' '  path = n.nane' '  data = bytes(n.at, n.size) | inflate' '  sise = n.size' '}' >draft.layout
for name in "${names[@]}"; do
  script=$(mktemp)
  {
    echo "export PATH=$root/build/release:\$PATH; unset NO_COLOR"
    while IFS= read -r -d ';' line; do
      line=${line# }
      printf 'printf "%%s\\n" %q\n{ %s; } </dev/null\n' "\$ $line" "$line"
    done <<<"${commands[$name]};"
    echo 'sleep 30'
  } >"$script"
  DISPLAY=$display xterm -geometry 140x47+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#fbfaf6' -fg '#1c2b33' -e bash "$script" &
  window=$!
  sleep 3
  DISPLAY=$display import -window root "$root/docs/screenshots/$name.png"
  kill $window 2>/dev/null || true
  rm -f "$script"
done
rm -rf "$desk"
