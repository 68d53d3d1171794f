#!/usr/bin/env bash
# Runs the program on test data that others made for programs of their own, fetched by the system's package client, and
# compares with what their own tests expect. Needs the network. usage: outside-suites.sh DIR
set -euo pipefail
cd "$(dirname "$0")/.."
dir=${1:?usage: outside-suites.sh DIR}
[ -x build/release/operculum ] || scripts/build.sh release operculum
mkdir -p "$dir/lists/partial" "$dir/suites"
printf 'deb-src http://deb.debian.org/debian bookworm main\n' >"$dir/sources.list"
client=(-o Dir::Etc::sourcelist="$dir/sources.list" -o Dir::Etc::sourceparts=/dev/null -o Dir::State::lists="$dir/lists"
        -o APT::Sandbox::User=root)
dir=$(cd "$dir" && pwd)
tool=$PWD/build/release/operculum
script=$PWD/scripts/outside_suites.py
cd "$dir/suites"
if ! compgen -G 'util-linux_*.orig.tar*' >/dev/null; then
  apt-get "${client[@]}" update -qq
  apt-get "${client[@]}" source --download-only -qq util-linux e2fsprogs
fi
compgen -G 'cryptsetup_*.orig.tar*' >/dev/null || apt-get "${client[@]}" source --download-only -qq cryptsetup || true
# of this one the packaging is gone from the archive, the source is not
compgen -G 'libldm_*.orig.tar*' >/dev/null || apt-get "${client[@]}" source --download-only -qq libldm || true
for package in libpython3.11-testsuite golang-1.19-src; do
  compgen -G "${package}_*.deb" >/dev/null || apt-get -o APT::Sandbox::User=root download -qq "$package"
done
for source in util-linux e2fsprogs cryptsetup libldm; do
  [ -d "$source" ] || { mkdir "$source"; tar -xf "$(ls "${source}"_*.orig.tar.[gx]z)" -C "$source" --strip-components=1; }
done
for package in libpython3.11-testsuite golang-1.19-src; do
  [ -d "$package" ] || dpkg-deb -x "${package}"_*.deb "$package"
done
python3 "$script" "$tool" "$dir/suites"
