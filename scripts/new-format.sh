#!/usr/bin/env bash
# Makes the skeleton of a format: its source, its place in the list, a test that fails until something is read, and a
# seed for fuzzing. usage: new-format.sh NAME FAMILY    (a folder of src/format: archive, filesystem, firmware, ...)
set -euo pipefail
cd "$(dirname "$0")/.."
name=${1:?usage: new-format.sh NAME FAMILY} family=${2:?usage: new-format.sh NAME FAMILY}
[[ $name =~ ^[a-z][a-z0-9_]*$ ]] || { echo "new-format: a NAME has small letters, digits and _" >&2; exit 2; }
[ -d "src/format/$family" ] || { echo "new-format: src/format has $(find src/format -mindepth 1 -type d -printf '%f ')" >&2; exit 2; }
source=src/format/$family/$name.cpp test=tests/format/${name}_test.cpp
for file in "$source" "$test"; do [ ! -e "$file" ] || { echo "new-format: $file is there already" >&2; exit 2; }; done
camel=$(sed -E 's/(^|_)([a-z])/\u\2/g' <<<"$name")

cat >"$source" <<CPP
// TODO: the format on disk in a few lines, after which specification (edition).
#include "base/error.h"
#include "base/structure.h"
#include "container/ranges.h"
#include "format/$family/formats.h"

namespace operculum {
namespace {

/// TODO: the specification's names.
struct Header {
  std::array<Byte, 4> magic{};
  std::uint32_t count = 0;
  static constexpr auto layout = little_endian(field("magic", &Header::magic), field("count", &Header::count));
};
constexpr std::string_view kMagic = "TODO";

Match recognise_$name(Probe& probe) {
  return starts_with(probe.head(kMagic.size()), kMagic) ? Match::front : Match::none;
}

ContainerPtr open_$name(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  read_structure<Header>(read_exactly(*bytes, 0, size_on_disk<Header>, "$name header").data());
  throw Unsupported("TODO");
}

}  // namespace

Format ${name}_format() {
  return {.id = "${name//_/-}",
          .name = "TODO",
          .family = "$family",
          .specification = "TODO",
          .reads = "TODO",
          .lacks = "TODO",
          .suffixes = {},
          .recognise = recognise_$name,
          .open = open_$name};
}

}  // namespace operculum
CPP

cat >"$test" <<CPP
// TODO: what is tested.
#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/open.h"

namespace operculum::test {
namespace {

Bytes make_sample() {
  return ByteWriter().text("TODO").u32(1).take();
}

TEST($camel, HoldsItsEntries) {
  Held held = open_bytes(make_sample(), "sample");
  ASSERT_EQ(held.format(), "${name//_/-}");
  EXPECT_EQ(paths_of(*held), "TODO");
  read_every_prefix(make_sample(), "sample");
  read_with_flips(make_sample(), 200, false);
}

}  // namespace
}  // namespace operculum::test
CPP

declaration="Format ${name}_format();"
sed -i "0,/^Format /s//$declaration\nFormat /" "src/format/$family/formats.h"
sed -i "/^      carrier_format(),/i \\      ${name}_format()," src/format/registry.cpp
clang-format -i "$source" "$test"
echo "made $source and $test; in the lists in src/format/$family/formats.h and src/format/registry.cpp (before programs: move it to where it belongs)"
echo "still to do: what says TODO; a seed in fuzz/seeds.cpp (then scripts/fuzz.sh --campaign 5 ${name//_/-}); a mark in src/container/marks.cpp where --search is to find it; CHANGELOG.md and the README's list"
