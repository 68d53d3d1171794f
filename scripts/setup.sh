#!/usr/bin/env bash
# Installs the Debian packages that are missing, and says which. Sourced by the other scripts.
# usage: setup.sh build|demo|test|coverage   ("demo" adds the web server of the demo, "test" also what tests, lint and
# pictures need, "coverage" also what counts lines)
set -euo pipefail

operculum_packages_build=(
  g++ cmake ninja-build pkg-config ccache mold
  libcli11-dev libfmt-dev nlohmann-json3-dev libtomlplusplus-dev
  libdeflate-dev zlib1g-dev liblzma-dev libzstd-dev libbz2-dev liblz4-dev liblzo2-dev libbrotli-dev
  libssl-dev libmagic-dev libblkid-dev libtbb-dev libpugixml-dev libfuse3-dev libdtl-dev libcurl4-openssl-dev libcairo2-dev libseccomp-dev libsqlite3-dev
  libargon2-dev libxxhash-dev libb2-dev
)
operculum_packages_demo=(nginx-light)
operculum_packages_test=(
  libgtest-dev clang clang-format clang-tidy libclang-rt-14-dev python3
  cpio lzop ncompress xz-utils tar openssl strace
  e2fsprogs xfsprogs btrfs-progs dosfstools exfatprogs squashfs-tools genisoimage erofs-utils udftools ntfs-3g genromfs util-linux-extra fdisk mount fuse3 attr
  makefs f2fs-tools
  u-boot-tools device-tree-compiler mtd-utils mkbootimg dfu-util arm-trusted-firmware-tools coreboot-utils binutils ovmf
)
operculum_packages_coverage=(llvm-14)

operculum_setup() {
  local packages=("${operculum_packages_build[@]}") missing=() package
  [ "${1:-build}" = build ] || packages+=("${operculum_packages_demo[@]}")
  case ${1:-build} in test | coverage) packages+=("${operculum_packages_test[@]}") ;; esac
  [ "${1:-build}" = coverage ] && packages+=("${operculum_packages_coverage[@]}")
  for package in "${packages[@]}"; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  echo "installing: ${missing[*]}"
  local as_root=()
  [ "$(id -u)" -eq 0 ] || as_root=(sudo)
  "${as_root[@]}" apt-get update -qq
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

operculum_setup "${1:-build}"
