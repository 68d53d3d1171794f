// Containers made to exhaust: what listing them costs grows with what is in them, and not faster. Steps are
// counted, not seconds: allocations, bytes of memory, and bytes that are read.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "container/open.h"
#include "support/apfs_writer.h"
#include "support/byte_writer.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/counting_source.h"
#include "support/ext_writer.h"
#include "support/failing_memory.h"
#include "support/fat_writer.h"
#include "support/firmware_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/language_case.h"
#include "support/package_writer.h"
#include "support/pe_writer.h"
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

/// The data of the first files.
void read_some(Container& container) {
  constexpr std::size_t kFiles = 3;
  Bytes block(64 << 10);
  for (std::size_t i = 0, files = 0; i < container.entries().size() && files < kFiles; ++i) {
    if (!container.entries()[i].has_data()) continue;
    ++files;
    StreamPtr stream = container.content(i)->stream();
    while (stream->read(block) > 0) {
    }
  }
}

/// Opens, lists twice, looks one path up and reads some.
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
      read_some(*opened.container);
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
    {"apfs-files", [](std::size_t n) { return make_apfs({{.tree = flat(n, EntryKind::file)}}); }, 200},
    {"wim-files", [](std::size_t n) { return make_wim(flat(n, EntryKind::file)).front(); }, 400},
    {"cfb-streams",
     [](std::size_t n) {
       std::vector<CfbNode> nodes;
       for (std::size_t i = 0; i < n; ++i) {
         std::string name = "s" + number(i);
         nodes.push_back({.name = std::u16string(name.begin(), name.end()), .data = Bytes(10)});
       }
       return make_cfb(nodes);
     },
     200},
    {"pe-resources",
     [](std::size_t n) {
       std::vector<PeResource> all;
       for (std::size_t i = 0; i < n; ++i)
         all.push_back({.type = 3, .number = static_cast<unsigned>(i + 1), .data = Bytes(10)});
       return make_pe(all);
     },
     400},
    {"device-tree-nodes",
     [](std::size_t n) {
       TreeNode root{"", {{"model", zero_ended("gauge")}}};
       for (std::size_t i = 0; i < n; ++i) root.nodes.push_back({"node@" + number(i), {{"reg", cell(1)}}});
       return make_device_tree(root);
     },
     400},
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

/// A chain of clusters that are scattered over the volume is followed once, not from its begin for each
/// block.
TEST(Flood, AScatteredFileIsReadInOnePass) {
  auto cost = [](std::size_t clusters) {
    return cost_of(make_fat({{.path = "long.bin", .data = Bytes(clusters * 512, 'x')}}, 32), "flood.bin");
  };
  cost(10);
  Cost small = cost(2000), large = cost(8000);
  EXPECT_LE(large.allocations, small.allocations * 5 + 1000);
  EXPECT_LE(large.memory, small.memory * 5 + (4 << 20));
  EXPECT_LE(large.read, small.read * 5 + (4 << 20));
}

/// What a description makes of n records whose names stand in another table.
TEST(Flood, DescribedListsThatAreLookedUpInEachOther) {
  auto cost = [](std::size_t n) {
    ByteWriter pack;
    pack.u32(n);
    for (std::size_t i = 0; i < n; ++i) pack.u32(n - i).u32(4 + n * 16).u32(1).u32(0);
    for (std::size_t i = 0; i < n; ++i) pack.u32(i + 1).u32(i);
    pack.text("x");
    Bytes bytes = pack.take();
    MemoryMeter meter;
    Described described(R"(record Row {
  id     u32
  at     u32
  size   u32
  unused u32
}
record Name {
  id     u32
  number u32
}
count = u32 at 0
rows  = Row[count] at 4
names = Name[count] at end_of(rows)
entry for r in rows {
  let number = first(x in names where x.id == r.id).number
  path = "file-{number}"
  data = bytes(r.at, r.size)
}
)",
                        bytes);
    EXPECT_EQ(described.error(), "");
    EXPECT_EQ(described.paths().substr(0, 5), "file-");
    return Cost{meter.allocations(), meter.bytes(), 0, n};
  };
  cost(10);
  Cost small = cost(1000), large = cost(4000);
  EXPECT_LE(large.allocations, small.allocations * 5 + 2000);
  EXPECT_LE(large.memory, small.memory * 5 + (4 << 20));
}

/// Ten entities, each of ten of the one before: ten thousand million letters, if somebody expands them.
TEST(Flood, EntitiesOfXmlAreNotExpanded) {
  std::string list = "<?xml version=\"1.0\"?>\n<!DOCTYPE plist [\n<!ENTITY e0 \"0123456789\">\n";
  for (int i = 1; i < 10; ++i) {
    list += "<!ENTITY e" + number(static_cast<std::size_t>(i)) + " \"";
    for (int k = 0; k < 10; ++k) list += "&e" + number(static_cast<std::size_t>(i - 1)) + ";";
    list += "\">\n";
  }
  list +=
      "]>\n<plist version=\"1.0\"><dict><key>diskimage-bundle-type</key><string>"
      "com.apple.diskimage.sparsebundle</string><key>band-size</key><integer>4096</integer><key>size</key>"
      "<integer>4096</integer><key>note</key><string>&e9;</string></dict></plist>";
  Cost cost = cost_of(to_bytes(list), "Info.plist");
  EXPECT_LE(cost.memory, 4u << 20);
  EXPECT_LE(cost.allocations, 5000u);
}

}  // namespace
}  // namespace operculum
