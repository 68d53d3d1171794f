#!/usr/bin/env bash
# Sets up a Debian 12 machine, builds operculum at build/release/operculum, makes the Saltmarsh Point demo data and runs
# a full example on it. usage: demo.sh [FOLDER]   (default: build/demo; it is made anew)
# OPERCULUM_PRESET=debug runs it with the build of the tests instead.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/setup.sh demo
preset=${OPERCULUM_PRESET:-release}
scripts/build.sh "$preset" operculum make_demo
folder=${1:-build/demo}
case $folder in
  build/*) rm -rf "$folder" ;;
  *) [ ! -e "$folder" ] || { echo "demo.sh: $folder exists already; choose a new folder" >&2; exit 2; } ;;
esac
mkdir -p "$folder"
repository=$PWD
tool=$PWD/build/$preset/operculum
layouts=$PWD/layouts
"build/$preset/make_demo" "$folder" >/dev/null
cd "$folder"

step() {
  printf '\n# %s\n' "$1"
  shift
  printf '$ %s\n' "$*"
  "$@"
}
# A step that is meant to end with a given exit code.
step_with_code() {
  local code=$1 got=0
  shift
  step "$@" || got=$?
  [ "$got" -eq "$code" ] || { echo "demo.sh: expected exit code $code, got $got" >&2; exit 1; }
}
operculum() { "$tool" "$@"; }

step "What protects this machine from what is read" operculum doctor || true
step "What is on the desk, whatever the names say" operculum identify tidepool.skin exhibit-7.tar.xz chart-setup.exe postcard.zip
step "Look before you unpack" operculum list tidepool.skin
step "What kinds of things are in it?" operculum list --summary tidepool.skin
step "One file, three layers deep" operculum show exhibit-7.tar.xz/opt/kiosk/kiosk.zip/packs/tidepool.skin/scripts/tide.lua
step "The whole stack as a tree" operculum list --tree --deep exhibit-7.tar.xz
step "A trial run writes nothing" operculum unpack tidepool.skin --match '*.ppm' --dry-run
step "Just the textures, into a folder of their own" operculum unpack tidepool.skin/textures --into unpacked/textures --receipt textures-receipt.json
step "An inner container, as the file that it is" operculum unpack exhibit-7.tar.xz/opt/kiosk/kiosk.zip --into unpacked/kiosk-file
step "With a slash: what is in it" operculum unpack exhibit-7.tar.xz/opt/kiosk/kiosk.zip/ --into unpacked/kiosk-contents
step_with_code 4 "A password is needed" operculum unpack gauge-keys.zip --into unpacked/keys
step "With the password" operculum unpack gauge-keys.zip --into unpacked/keys --password-file gauge-password.txt
step_with_code 1 "A damaged archive: everything else comes out" operculum unpack gauge-logs.zip --into unpacked/logs
step_with_code 1 "What exactly is damaged?" operculum verify gauge-logs.zip
step "Everything inside everything, checked" operculum verify --deep exhibit-7.tar.xz tidepool.skin
step "A pack that nothing knows, described in thirty lines" operculum identify packs/tidepool.shoal packs/film-corner.reef packs/survey.bed
step "What the description reads, and what each byte is for" operculum layout check "$layouts/shoal.layout" packs/tidepool.shoal --fields 12
step "Which descriptions are there?" operculum layout list
export XDG_CONFIG_HOME=$PWD/config
for pack in tidepool.shoal kelp-forest.kelp tide-gauge.gauge voices.tern survey.bed film-corner.reef chart-setup.harbour hall.ledger levels.eel letters.drift drawings.cockle; do
  step "Everything in $pack, checked" operculum verify "packs/$pack"
done
step "Names made of what the pack says of itself" operculum unpack packs/tidepool.shoal --into unpacked/renamed --name-as '{title}-{number}-{name}{ending}'
step "The card image of an exhibit computer" operculum identify exhibit-card.qcow2
step "Its partitions" operculum list exhibit-card.img
step "One file: through wrapper, partition table, file system, SquashFS and pack" operculum show exhibit-card.qcow2/2/opt/kiosk/media.squashfs/packs/tidepool.skin/scripts/tide.lua
step "The whole card, files within files" operculum list --tree --deep exhibit-card.img/kiosk
step "Everything on the card, checked" operculum verify --deep exhibit-card.qcow2
step "One folder of it" operculum unpack exhibit-card.qcow2/2/opt/kiosk --into unpacked/kiosk
"$tool" unpack "$repository/tests/fixtures/kernel/gallery.tar.xz" --into gallery >/dev/null
printf 'ebb and flow' >gallery-passphrase.txt
step "The gallery's server: two disks of a mirror, a volume group, an encrypted volume, a file system" operculum identify gallery/gallery-disk-0.img --password-file gallery-passphrase.txt
step "One file through all of it, by one locator and one passphrase" operculum show gallery/gallery-disk-0.img/exhibits/hall/captions.zip/crab.txt --password-file gallery-passphrase.txt
step "As it was before the storm: a snapshot" operculum show gallery/gallery-disk-1.img/exhibits/before-the-storm/hours.txt --password-file gallery-passphrase.txt
mkdir -p rescued && cp gallery/gallery-disk-1.img rescued
step "One disk alone is enough, and what is missing is told" operculum identify rescued/gallery-disk-1.img --password-file gallery-passphrase.txt
step "All of it from one disk, checked" operculum verify --deep rescued/gallery-disk-1.img --password-file gallery-passphrase.txt
step "An installer: what is it, and what does it carry?" operculum identify chart-display.exe
step "What is in the program itself" operculum list chart-display.exe
step "What would it do to a machine? Nothing is run" operculum install-report chart-display.exe --scripts
operculum install-report chart-display.exe --page chart-display.html
step "From one file to a portable folder" operculum unpack chart-display.exe/resources/data/101/ --into unpacked/chart-display
step "A table of the database" operculum show chart-display.exe/resources/data/101/tables/File.csv
step "Only pictures, whatever their names" operculum unpack chart-display.exe/resources/data/101/ --only-kind image --into unpacked/charts
step_with_code 5 "No scripts wanted: nothing is written" operculum unpack chart-display.exe/resources/data/101/ --refuse-kind script,executable --into unpacked/refused
step "A memory dump: nothing known, but something may be in it" operculum identify tide-gauge.dump
step "Containers, wherever they begin" operculum list --search tide-gauge.dump
step "All that is in them" operculum unpack --search --deep tide-gauge.dump --into unpacked/tide-gauge
step "The update of a tide gauge: a header of the gauges' own, and what lies behind it" operculum identify gauge-update-2.4.swell
step "Through header, image tree and SquashFS to one file" operculum show gauge-update-2.4.swell/bundle.itb/images/rootfs/etc/gauge.conf
step "The device tree as source text" operculum show gauge-update-2.4.swell/bundle.itb/images/tree/
step "The settings as they are now, and the versions before them" operculum list --view with-deleted gauge-update-2.4.swell/settings.jffs2
step "An encrypted part, whose key is in the ring" operculum show gauge-update-2.4.swell/bundle.itb/images/calibration
step_with_code 1 "What is new in 2.4?" operculum compare --deep gauge-update-2.3.swell gauge-update-2.4.swell
step "A flash chip as it was read out: what lies where?" operculum identify --search gauge-flash.bin --page flash.html
step "Its parts, as the boot loader's line names them" operculum list gauge-flash.bin --parts "64k(loader),256k(update),128k(settings),-(room)"
step "The harbour office's old chart store: nobody knows how it is built" operculum identify packs/charts-24.hob
step "Let the program find it out, from two years of it" operculum study packs/charts-24.hob packs/charts-19.hob --draft charts.layout --page study.html --explain
step "The draft opens it" operculum list packs/charts-24.hob --layout charts.layout
step "And the other year, checked" operculum verify packs/charts-19.hob --layout charts.layout
step "A shelf of backups: what is each, whatever its name says?" operculum identify backups
step "Which of them still has the lost log, and which version is the newest?" operculum find backups --match tide.log --versions
step "Where does it say that the mark was under water?" operculum find backups --text "under water"
step_with_code 1 "Two builds of the exhibit: what changed, through three containers?" operculum compare --deep exhibit-7.tar.xz exhibit-8.tar.zst --page compare.html
step "Four packs loaded one over the other: who provides the crab's picture?" operculum order loading --by number --why textures/crab.ppm
step "All conflicts, and what the game sees in a folder" operculum order loading --by number --only-conflicts --page order.html --unpack-winners unpacked/game --receipt game-receipt.json
step "A catalogue of it all" operculum catalogue shelf.db backups loading packs exhibit-7.tar.xz exhibit-8.tar.zst --verify
step "What the collection looks like" operculum catalogue report shelf.db --rows 5 --page shelf.html
step "The catalogue answers at once" operculum find --catalogue shelf.db --match tide.log --newest
web=$(mktemp -d)
as_who=
[ "$(id -u)" -ne 0 ] || as_who='user root;'  # else its workers could not read what only root may
printf '%s daemon on; pid %s/pid; error_log %s/errors;\nevents {}\nhttp { access_log off; client_body_temp_path %s/1; proxy_temp_path %s/2; fastcgi_temp_path %s/3; uwsgi_temp_path %s/4; scgi_temp_path %s/5; server { listen 127.0.0.1:18080; root %s; } }\n' \
  "$as_who" "$web" "$web" "$web" "$web" "$web" "$web" "$web" "$PWD" >"$web/nginx.conf"
if PATH=$PATH:/usr/sbin nginx -e "$web/errors" -c "$web/nginx.conf"; then
  trap 'kill "$(cat "$web/pid")" 2>/dev/null || true' EXIT
  step "One text out of an archive on a web server" operculum show http://127.0.0.1:18080/exhibit-7.tar.xz/opt/kiosk/kiosk.zip/packs/tidepool.skin/credits.txt
else
  printf '\n# No web server can be started here: that step is left out\n'
fi
step "And out of a stream" bash -c "cat backups/gauge-03.tar.gz | $tool list -"
step "Change a texture deep in the exhibit, and keep the original beside it" operculum rebuild exhibit-7.tar.xz/opt/kiosk/kiosk.zip/packs/tidepool.skin --set textures/crab.ppm=unpacked/textures/textures/limpet.ppm --in-place --receipt exhibit-receipt.json
step "It is there" operculum verify --deep exhibit-7.tar.xz
step "Edit a script (the editor is sed here)" env VISUAL="sed -i s/1/2/" "$tool" edit tidepool.skin/scripts/tide.lua --receipt script-receipt.json
step "A pack that only a description knows: a longer text" operculum rebuild packs/tidepool.shoal --set textures/crab.txt=gauge-password.txt --into packs/tidepool-new.shoal
step "The description reads it, and all checksums fit" operculum verify packs/tidepool-new.shoal
cp -r unpacked/textures/textures my-textures
cp unpacked/textures/textures/limpet.ppm my-textures/crab.ppm
step "A small pack of what differs, that goes over the large one" operculum pack my-textures --like tidepool.skin/textures --changed-only --into crabs.skin --last-among packs
printf 'pier-ki-7\n' > hostname
step "A file on the card, of the same size: everything else stays" operculum rebuild exhibit-card.img/2 --set etc/hostname=hostname --into exhibit-card-pier.img
step "A texture in a pack, in the packed media, in the card's file system, on the card" operculum rebuild exhibit-card.img/2/opt/kiosk/media.squashfs/packs/tidepool.skin --set textures/crab.ppm=unpacked/textures/textures/limpet.ppm --into exhibit-card-limpet.img
step "The same within the image that keeps a snapshot" operculum rebuild exhibit-card.qcow2/2/opt/kiosk/media.squashfs/packs/tidepool.skin --set textures/crab.ppm=unpacked/textures/textures/limpet.ppm --into exhibit-card-limpet.qcow2
step "All of the card that is left is as it was" operculum compare exhibit-card.img exhibit-card-limpet.img --deep --summary || true
step "The card's start partition: a new kernel line, a note more" operculum rebuild exhibit-card.img/1 --set loader/entries.conf=hostname --add notes/pier.txt=hostname --into exhibit-card-boot.img
step "A text more in a pack that only a description knows, and one less" operculum rebuild packs/tidepool.shoal --add textures/pier.txt=hostname --remove textures/limpet.txt --into packs/tidepool-pier.shoal
step "In a pack of chunks within chunks, too; one gets another name" operculum rebuild packs/kelp-forest.kelp --add forest/pier=hostname --remove forest/floor/sand.map --rename forest/plain=forest/meadow --into packs/kelp-pier.kelp
mkdir packs/pier
step "A set-up file whose index is packed and whose data lies in two files beside it: all three are written" operculum rebuild packs/chart-setup.harbour --add program/pier.txt=hostname --rename program/lesen.txt=program/read-me.txt --into packs/pier/chart-setup.harbour
step "A survey in four data files" operculum rebuild packs/survey.bed --set north/count.txt=hostname --into packs/pier/survey.bed
step "A folder of a tree goes with all that is in it" operculum rebuild packs/levels.eel --remove caves --into packs/levels-short.eel
step "The textures as a file system for the next card" operculum pack my-textures --as squashfs --method zstd --into my-textures.squashfs
step "And as a disc" operculum pack my-textures --as iso9660 --into my-textures.iso
cp my-textures.iso textures-disc.iso
truncate -s 12M textures-disc.iso # as the recorder in the workshop fills discs up
step "A disc that is mostly filling" operculum identify textures-disc.iso
step "Trimmed" operculum rebuild textures-disc.iso --trim --into textures-small.iso
step "It is told from a full one, and from one that is cut short" operculum identify textures-small.iso
step "A cabinet for the old display, and another picture in it" operculum pack my-textures --as cab --into my-textures.cab
step "What does not change in it stays as it lies" operculum rebuild my-textures.cab --set limpet.ppm=unpacked/textures/textures/crab.ppm --into crabs.cab
step "The pack for a colleague who has only the usual programs" operculum convert packs/tidepool.shoal --as zip --into tidepool.zip
step "A new pack of a format that only a description knows, of an archive" operculum convert tidepool.zip --as shoal --into tidepool-again.shoal
step "The same files come out of both" operculum compare tidepool.zip tidepool-again.shoal
step "The exhibit with another codec around it" operculum convert exhibit-7.tar.xz --as tar.zst --into exhibit-7.tar.zst
step "The card as a raw disk" operculum convert exhibit-card.qcow2 --as raw --into exhibit-card.raw
step "One step back" operculum discard exhibit-receipt.json
step "Take the textures back" operculum discard textures-receipt.json
operculum list --json --deep exhibit-7.tar.xz --output exhibit-7.jsonl
operculum list --csv tidepool.skin --output tidepool.csv
printf '\nThe results are in %s: open unpacked/, chart-display.html, study.html, flash.html, compare.html, order.html, shelf.html, exhibit-7.jsonl, tidepool.csv.\n' "$PWD"
