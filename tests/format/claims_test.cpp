// What a file claims is worth nothing: every format at the front of 2^60 bytes that are a hole, and folders
// 900 deep. Work is counted in reads, not in seconds.
#include <gtest/gtest.h>

#include "codec/codec.h"
#include "format/filesystem/file_tree.h"
#include "support/apfs_writer.h"
#include "support/cab_writer.h"
#include "support/cfb_writer.h"
#include "support/disk_writer.h"
#include "support/erofs_writer.h"
#include "support/ext_writer.h"
#include "support/fat_writer.h"
#include "support/hfs_writer.h"
#include "support/iso_writer.h"
#include "support/msi_writer.h"
#include "support/open.h"
#include "support/package_writer.h"
#include "support/pe_writer.h"
#include "support/refusal.h"
#include "support/sample_tree.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/udf_writer.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::uint64_t kClaimed = std::uint64_t{1} << 60;
constexpr std::uint64_t kMostReads = 400'000, kMostBytes = std::uint64_t{256} << 20;

/// Some bytes, and behind them a hole up to 2^60; counts what is read of it.
class ClaimedSource final : public Source {
 public:
  explicit ClaimedSource(Bytes front) : front_(std::move(front)) {}
  std::uint64_t size() const override { return kClaimed; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    bytes_ += out.size();
    if (++reads_ > kMostReads || bytes_ > kMostBytes)
      throw GuardTripped("work that only a claimed size explains");
    if (offset >= kClaimed) return 0;
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), kClaimed - offset)));
    std::fill(out.begin(), out.end(), Byte{0});
    if (offset < front_.size())
      std::copy_n(front_.begin() + static_cast<std::ptrdiff_t>(offset),
                  std::min<std::size_t>(out.size(), front_.size() - static_cast<std::size_t>(offset)),
                  out.begin());
    return out.size();
  }
  std::uint64_t hole_at(std::uint64_t offset) const override {
    return offset < front_.size() ? 0 : kClaimed - std::min(offset, kClaimed);
  }
  bool overrun() const { return reads_ > kMostReads || bytes_ > kMostBytes; }

 private:
  Bytes front_;
  mutable std::atomic<std::uint64_t> reads_{0}, bytes_{0};
};

SampleTree tree() {
  return {{.path = "pool", .kind = EntryKind::folder},
          {.path = "pool/chart.txt", .data = to_bytes(std::string(3000, 't'))},
          {.path = "pool/raw.bin", .data = noise(900)}};
}

struct Sample {
  const char* name;
  std::function<Bytes()> make;
};

void PrintTo(const Sample& sample, std::ostream* out) {
  *out << sample.name;
}

Bytes packed(const char* codec) {
  return encode(codec, to_bytes(std::string(5000, 'h')));
}

const Sample kSamples[] = {
    {"zip", [] { return ZipBuilder().add("a", "tide").build(); }},
    {"zip_cut", [] { return ZipBuilder().add("a", "tide").build_without_directory(); }},
    {"tar", [] { return TarBuilder().folder("a").file("a/b", "tide").build(); }},
    {"gzip", [] { return packed("gzip"); }},
    {"xz", [] { return packed("xz"); }},
    {"zstd", [] { return packed("zstd"); }},
    {"bzip2", [] { return packed("bzip2"); }},
    {"zlib", [] { return packed("zlib"); }},
    {"lzma", [] { return packed("lzma-alone"); }},
    {"chunked_xz", [] { return make_chunked_xz(to_bytes(std::string(5000, 'h')), 1000); }},
    {"cab",
     [] {
       return make_cab({{{{"chart.txt", noise(600)}}, CabMethod::mszip, 16, false}});
     }},
    {"cfb", [] { return make_cfb({{.name = u"a", .data = noise(500)}}); }},
    {"msi",
     [] {
       return make_msi(sample_msi({{"c", noise(60)}}, make_cab({{{{"f1", noise(60)}}}}), "#disk1.cab"));
     }},
    {"pe", [] { return make_pe({{.type = 3, .number = 1, .data = noise(64)}}, {.overlay = noise(50)}); }},
    {"script", [] { return to_bytes("#!/bin/sh\nexit\n" + std::string(as_text(packed("gzip")))); }},
    {"deb", [] { return make_deb(tree(), "#!/bin/sh\n"); }},
    {"rpm", [] { return make_rpm(tree()); }},
    {"xar", [] { return make_xar(tree()); }},
    {"wim", [] { return make_wim(tree(), {})[0]; }},
    {"ext", [] { return make_ext(tree(), 1 << 20); }},
    {"fat", [] { return make_fat(tree(), 16); }},
    {"exfat", [] { return make_exfat(tree()); }},
    {"hfs", [] { return make_hfs(tree()); }},
    {"apfs", [] { return make_apfs({{.tree = tree()}}); }},
    {"iso", [] { return make_iso(tree()); }},
    {"udf", [] { return make_udf(tree()); }},
    {"squashfs", [] { return make_squashfs(tree()); }},
    {"erofs", [] { return make_erofs(tree(), BlockCodec::lz4); }},
    {"gpt", [] { return make_gpt({}); }},
    {"mbr", [] { return make_mbr({}); }},
    {"qcow2", [] { return make_qcow2(make_ext(tree(), 1 << 20)); }},
    {"vhd", [] { return make_vhd(make_ext(tree(), 1 << 20)); }},
    {"vhdx", [] { return make_vhdx(make_ext(tree(), 1 << 20)); }},
    {"vmdk", [] { return make_vmdk(make_ext(tree(), 1 << 20)); }},
    {"android_sparse", [] { return make_android_sparse(make_ext(tree(), 1 << 20)); }},
};

struct Claims : testing::TestWithParam<Sample> {};

/// Lists everything, and reads all data, of which no file here has more than a few MiB that are stored.
void read_everything(Container& container) {
  container.facts();
  container.each(Detail::all, [](const Entry&) {});
  for (std::size_t i = 0; i < container.entries().size(); ++i) {
    if (!container.entries()[i].has_data()) continue;
    try {
      StreamPtr stream = container.content(i)->stream();
      Bytes block(64 * 1024);
      while (stream->skip_hole() + stream->read(block) > 0) continue;
    } catch (const GuardTripped&) {
      throw;
    } catch (const Error&) {
      continue;
    }
  }
}

TEST_P(Claims, CostNothing) {
  auto source = std::make_shared<ClaimedSource>(GetParam().make());
  try {
    Held held = open_source(source, "sample");
    if (held.opened.container) read_everything(*held);
  } catch (const Error&) {
    // refusing it is as good as reading it
  }
  EXPECT_FALSE(source->overrun()) << "it was read on and on";
}

INSTANTIATE_TEST_SUITE_P(Formats, Claims, testing::ValuesIn(kSamples),
                         [](const auto& one) { return std::string(one.param.name); });

/// 900 folders within each other, each with a name of 200 bytes, and in the last one as many files as are
/// asked for.
class DeepTree final : public FileTree {
 public:
  explicit DeepTree(const Limits& limits) : FileTree(limits) {}

 protected:
  NodeRef root() override { return {1}; }
  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    constexpr std::uint64_t kLevels = 900, kFiles = 20'000;
    if (folder.a < kLevels) {
      TreeItem item;
      item.entry.path = std::string(200, 'd');
      item.entry.kind = EntryKind::folder;
      item.ref = {folder.a + 1};
      return sink(std::move(item));
    }
    for (std::uint64_t i = 0; i < kFiles; ++i) {
      TreeItem item;
      item.entry.path = "f" + std::to_string(i);
      sink(std::move(item));
    }
  }
  ContentPtr open(const Entry&, NodeRef) override { return make_content(make_memory_source({})); }
};

TEST(DeepFolders, ALongPathForEachEntryTripsTheGuardNotTheMachine) {
  Limits limits;
  limits.begin(2 << 20, 2 << 20);
  auto deep = std::make_shared<DeepTree>(limits);
  EXPECT_REFUSAL(
      deep->entries(), GuardTripped,
      "listing a file of 2.0 MiB takes more than 192.0 MiB of memory; if that is right, raise --max-memory");
  std::uint64_t met = 0;
  limits.begin(2 << 20, 2 << 20);
  deep->each(Detail::paths, [&](const Entry&) { ++met; });
  EXPECT_EQ(met, 20'899u) << "a listing that keeps nothing goes through";
}

TEST(DeepFolders, PathsOf900PartsAreListedByFormatsThatStateThem) {
  std::string path;
  for (int i = 0; i < 900; ++i) path += std::string(200, 'd') + "/";
  Held tar = open_bytes(TarBuilder().pax({{"path", path + "f"}}).file("f", "tide").build(), "deep.tar");
  EXPECT_EQ(text_at(*tar, path + "f"), "tide");
}

}  // namespace
}  // namespace operculum
