// Containers made to exhaust: what listing them costs grows with what is in them, and not faster. Steps are
// counted, not seconds: allocations, bytes of memory, and bytes that are read.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "container/open.h"
#include "support/byte_writer.h"
#include "support/cab_writer.h"
#include "support/counting_source.h"
#include "support/ext_writer.h"
#include "support/failing_memory.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/package_writer.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/udf_writer.h"
#include "support/zip_builder.h"
#include "task/output_names.h"

namespace operculum {
namespace {

using namespace test;

struct Cost {
  std::uint64_t allocations = 0, memory = 0, read = 0, entries = 0;
};

/// Opens, lists twice and looks one path up.
Cost cost_of(Bytes bytes, const std::string& name) {
  auto source = std::make_shared<CountingSource>(std::move(bytes));
  Cost cost;
  MemoryMeter meter;
  try {
    OpenContext context;
    Opened opened = open_container({make_content(source), name}, context);
    if (opened.container) {
      opened.container->each(Detail::all, [&](const Entry&) { ++cost.entries; });
      opened.container->find("no/such/path");
    }
  } catch (const Error&) {
    // a guard's sentence is a right answer
  }
  cost.allocations = meter.allocations();
  cost.memory = meter.bytes();
  cost.read = source->given;
  return cost;
}

struct Flood {
  const char* name;
  std::function<Bytes(std::size_t)> make;  ///< of n things
  std::size_t n;                           ///< of the smaller one
};

std::string number(std::size_t i) {
  return std::to_string(i);
}

SampleTree flat(std::size_t n, EntryKind kind) {
  SampleTree tree;
  for (std::size_t i = 0; i < n; ++i) tree.push_back({.path = "entry-" + number(i), .kind = kind});
  return tree;
}

SampleTree deep(std::size_t n) {
  SampleTree tree;
  std::string path;
  for (std::size_t i = 0; i < n; ++i) {
    path += (path.empty() ? "" : "/") + ("f" + number(i % 10));
    tree.push_back({.path = path, .kind = EntryKind::folder});
  }
  return tree;
}

/// All entries share one local header and its data.
Bytes overlapping_zip(std::size_t n) {
  Bytes one = ZipBuilder().stored("a", to_bytes("shared")).build();
  ByteWriter out;
  std::size_t local = 30 + 1 + 6, central = 46 + 1;
  out.bytes(ByteView(one).first(local));
  for (std::size_t i = 0; i < n; ++i) out.bytes(ByteView(one).subspan(local, central));
  Bytes end(one.end() - 22, one.end());
  Bytes all = out.view();
  auto set = [&](std::size_t at, std::uint64_t value, std::size_t width) {
    for (std::size_t i = 0; i < width; ++i) end[at + i] = static_cast<Byte>(value >> (8 * i));
  };
  set(8, n, 2);
  set(10, n, 2);
  set(12, n * central, 4);
  all.insert(all.end(), end.begin(), end.end());
  return all;
}

Bytes long_names(std::size_t n) {
  TarBuilder tar;
  for (std::size_t i = 0; i < n; ++i) {
    tar.pax({{"path", std::string(64 * 1024, 'n') + number(i)}});
    tar.file("short", "");
  }
  return tar.build();
}

const Flood kFloods[] = {
    {"zip-overlapping", overlapping_zip, 4000},
    {"zip-folders",
     [](std::size_t n) {
       ZipBuilder zip;
       for (std::size_t i = 0; i < n; ++i) zip.folder("f" + number(i));
       return zip.build();
     },
     4000},
    {"zip-same-name",
     [](std::size_t n) {
       ZipBuilder zip;
       for (std::size_t i = 0; i < n; ++i) zip.add("same.txt", "x");
       return zip.build();
     },
     2000},
    {"tar-folders",
     [](std::size_t n) {
       TarBuilder tar;
       for (std::size_t i = 0; i < n; ++i) tar.folder("f" + number(i));
       return tar.build();
     },
     4000},
    {"tar-deep",
     [](std::size_t n) {
       TarBuilder tar;
       std::string path;
       for (std::size_t i = 0; i < 40; ++i) path += "f/";
       for (std::size_t i = 0; i < n; ++i) tar.file(path + number(i), "");
       return tar.build();
     },
     4000},
    {"tar-long-names", long_names, 20},
    {"ext-files", [](std::size_t n) { return make_ext(flat(n, EntryKind::file), std::size_t{16} << 20); },
     400},
    {"ext-deep", [](std::size_t n) { return make_ext(deep(n), std::size_t{16} << 20); }, 40},
    {"fat-files", [](std::size_t n) { return make_fat(flat(n, EntryKind::file), 32); }, 400},
    {"exfat-files", [](std::size_t n) { return make_exfat(flat(n, EntryKind::file)); }, 400},
    {"iso-files", [](std::size_t n) { return make_iso(flat(n, EntryKind::file)); }, 1000},
    {"hfs-files", [](std::size_t n) { return make_hfs(flat(n, EntryKind::file)); }, 400},
    {"udf-files", [](std::size_t n) { return make_udf(flat(n, EntryKind::file)); }, 400},
    {"squashfs-folders", [](std::size_t n) { return make_squashfs(flat(n, EntryKind::folder)); }, 100},
    {"rpm-files", [](std::size_t n) { return make_rpm(flat(n, EntryKind::file)); }, 500},
    {"xar-files", [](std::size_t n) { return make_xar(flat(n, EntryKind::file)); }, 500},
    {"xar-deep", [](std::size_t n) { return make_xar(deep(n)); }, 40},
    {"cab-files",
     [](std::size_t n) {
       CabFolder folder;
       for (std::size_t i = 0; i < n; ++i) folder.files.push_back({"f" + number(i), {}});
       return make_cab({folder});
     },
     2000},
};

class FloodGrowth : public ::testing::TestWithParam<Flood> {};

TEST_P(FloodGrowth, IsNotFasterThanTheInput) {
  const Flood& flood = GetParam();
  constexpr std::size_t kTimes = 4;
  cost_of(flood.make(2), "flood.bin");  // tables that are made once
  Bytes small = flood.make(flood.n), large = flood.make(flood.n * kTimes);
  Cost first = cost_of(small, "flood.bin"), second = cost_of(large, "flood.bin");
  ASSERT_GE(second.entries, flood.n) << "the flood was not read";
  // n log n from a few hundred on is below 1.4 n; what is the same for both is allowed for on both sides.
  auto expect_bounded = [&](std::uint64_t before, std::uint64_t after, std::uint64_t free, const char* what) {
    EXPECT_LE(after, before * kTimes * 14 / 10 + free) << what << ": " << before << " for " << flood.n << ", "
                                                       << after << " for " << kTimes << " times as many";
  };
  expect_bounded(first.allocations, second.allocations, 2000, "allocations");
  expect_bounded(first.memory, second.memory, 4 << 20, "bytes of memory");
  expect_bounded(first.read, second.read, 4 << 20, "bytes read");
}

INSTANTIATE_TEST_SUITE_P(Containers, FloodGrowth, ::testing::ValuesIn(kFloods), [](const auto& one) {
  std::string name = one.param.name;
  std::replace(name.begin(), name.end(), '-', '_');
  return name;
});

TEST(Flood, NamesThatAreEqualAreNumberedInOnePass) {
  auto allocations = [](std::size_t n) {
    OutputNames names(NameRules::here);
    MemoryMeter meter;
    for (std::size_t i = 0; i < n; ++i) names.file("same/name.txt", OutputNames::Duplicates::numbered);
    return meter.allocations();
  };
  allocations(10);
  EXPECT_LE(allocations(8000), allocations(2000) * 5);
}

}  // namespace
}  // namespace operculum
