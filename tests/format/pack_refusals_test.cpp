// What formats that are made from scratch have no room for, sentence by sentence.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "io/missing_source.h"
#include "support/byte_writer.h"
#include "support/new_container.h"
#include "support/refusal.h"

namespace operculum {
namespace {

using namespace test;

NewEntry link_to(const std::string& path) {
  NewEntry entry;
  entry.path = path;
  entry.kind = EntryKind::symbolic_link;
  entry.link_target = "pool";
  return entry;
}

/// A file of so many bytes, none of which is read before its size is refused.
NewEntry file_of(const std::string& path, std::uint64_t size) {
  NewEntry entry;
  entry.path = path;
  entry.size = size;
  entry.content = make_content(make_missing(size, "nothing of it is to be read"));
  return entry;
}

struct Case {
  std::string name, format, method;
  NewEntry entry;
  std::string sentence;
};
void PrintTo(const Case& one, std::ostream* out) {
  *out << one.name;
}

NewEntry named(const std::string& path) {
  NewEntry entry;
  entry.path = path;
  entry.size = 5;
  entry.content = make_content(make_memory_source(to_bytes("pinch")));
  return entry;
}

class PackRefusals : public testing::TestWithParam<Case> {};

TEST_P(PackRefusals, AreTold) {
  const Case& one = GetParam();
  EXPECT_REFUSAL(NewContainer(one.format, one.method).add(one.entry).bytes(), Unsupported, one.sentence);
}

const std::string kLong(300, 'x');

INSTANTIATE_TEST_SUITE_P(
    Formats, PackRefusals,
    testing::Values(
        Case{"fat_link", "fat", "", link_to("latest"),
             "the link \"latest\" on a FAT volume, which has files and folders alone"},
        Case{"fat_large", "fat", "", file_of("tide.bin", std::uint64_t{5} << 30),
             "\"tide.bin\" with 5368709120 bytes on a FAT volume, where a file has less than 4 GiB"},
        Case{"fat_method", "fat", "zlib", named("crab.txt"), "the method \"zlib\""},
        Case{"cab_link", "cab", "", link_to("latest"), "\"latest\" in a cabinet, which holds files alone"},
        Case{"cab_large", "cab", "", file_of("tide.bin", std::uint64_t{3} << 30),
             "a file of more than 2 GiB in a cabinet (\"tide.bin\")"},
        Case{"cab_path", "cab", "", named(kLong), "in a cabinet, where paths have up to "},
        Case{"squashfs_name", "squashfs", "", named(kLong), "a name of 300 bytes in a SquashFS image"},
        Case{"squashfs_method", "squashfs", "bzip2", named("crab.txt"),
             "the method \"bzip2\" in a SquashFS image"},
        Case{"zip_method", "zip", "nope", named("crab.txt"), "the method \"nope\" in a ZIP archive"},
        Case{"iso_method", "iso9660", "zlib", named("crab.txt"), "the method \"zlib\" on an ISO 9660 disc"},
        Case{"vhd_method", "vhd", "zlib", file_of("disk", 1 << 20),
             "the method \"zlib\" in a VHD; \"stored\" makes a fixed one"},
        Case{"vhd_size", "vhd", "", file_of("disk", 1000),
             "a VHD of a disk that is no whole number of sectors, or larger than 2040 GiB"}),
    [](const auto& one) { return one.param.name; });

}  // namespace
}  // namespace operculum
