// LittleFS 2 (its specification, SPEC.md, disk versions 2.0 and 2.1): metadata in pairs of blocks, small
// files within them, larger ones as lists of blocks that are linked backwards (CTZ skip lists).
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <set>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "format/filesystem/file_tree.h"
#include "format/flash/formats.h"
#include "format/flash/littlefs_pair.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

using namespace littlefs;

constexpr std::uint16_t kFile = 0x01, kFolder = 0x02, kSuperblock = 0xFF;
constexpr std::uint16_t kFolderPair = 0x200, kWithin = 0x201, kBlocks = 0x202;
constexpr std::uint64_t kMostBlocks = 1 << 22;

/// The superblock's fields, at a fixed place of the first commit: revision, tag, "littlefs", tag, numbers.
struct Super {
  std::array<Byte, 8> magic{};
  std::uint32_t version = 0, block_size = 0, block_count = 0, name_max = 0, file_max = 0, attr_max = 0;
  static constexpr auto layout =
      little_endian(from_byte<8>(), field("magic", &Super::magic), from_byte<20>(),
                    field("version", &Super::version), field("block size", &Super::block_size),
                    field("block count", &Super::block_count), field("name max", &Super::name_max),
                    field("file max", &Super::file_max), field("attr max", &Super::attr_max));
};

std::optional<Super> super_of(ByteView front) {
  if (front.size() < size_on_disk<Super>) return std::nullopt;
  auto out = read_structure<Super>(front.data());
  if (as_text(out.magic) != "littlefs") return std::nullopt;
  bool fits =
      out.version >> 16 == 2 && out.block_size >= 128 && out.block_size <= 1 << 24 && out.block_count >= 2;
  return fits ? std::optional(out) : std::nullopt;
}

class LittleFsContainer final : public FileTree {
 public:
  LittleFsContainer(SourcePtr image, const Super& super, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), super_(super) {
    compare_sizes(*this, image_->size(), std::uint64_t{super.block_size} * super.block_count);
  }

  Facts facts() override {
    return {{"version", fmt::format("{}.{}", super_.version >> 16, super_.version & 0xFFFF)},
            {"block", size_fact(super_.block_size)},
            {"blocks", std::to_string(super_.block_count)}};
  }

 protected:
  NodeRef root() override { return {std::uint64_t{1} << 32}; }  // the pair of blocks 0 and 1

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    PairPlace place{static_cast<std::uint32_t>(folder.a), static_cast<std::uint32_t>(folder.a >> 32)};
    std::set<std::uint32_t> seen;
    for (;;) {
      if (!seen.insert(place.first).second) throw Malformed("LittleFS: the pairs of a folder form a loop");
      Pair pair = read_pair(*image_, super_.block_size, place);
      for (const Item& item : pair.items) row(item, sink);
      if (!pair.hard_tail || pair.tail.first == kNone) return;
      place = pair.tail;
    }
  }

  ContentPtr open(const Entry& entry, NodeRef ref) override {
    if (ref.b == UINT64_MAX) return make_content(make_slice(image_, ref.a, entry.size));  // within its pair
    auto head = static_cast<std::uint32_t>(ref.a);
    return make_content(make_extent_source(image_, blocks_of(head, entry.size), entry.size));
  }

 private:
  void row(const Item& item, const TreeSink& sink) {
    if (item.type == 0 || item.type == kSuperblock) return;
    TreeItem out;
    Entry& entry = out.entry;
    entry.path = item.name;
    if (item.type == kFolder) {
      entry.kind = EntryKind::folder;
      auto pair = two_words(item.data);
      if (item.structure != kFolderPair || !pair)
        return add_damaged(std::move(out), "the pair of a folder is missing", sink);
      out.ref = {pair->first | std::uint64_t{pair->second} << 32};
    } else if (item.type == kFile) {
      if (item.structure == kWithin) {
        entry.size = entry.stored_size = item.data.size();
        entry.stored_at = item.data_at;
        out.ref = {item.data_at, UINT64_MAX};
      } else if (auto list = two_words(item.data); item.structure == kBlocks && list) {
        entry.size = entry.stored_size = list->second;
        out.ref = {list->first, 0};
      } else {
        return add_damaged(std::move(out), "a file without its data", sink);
      }
    } else {
      add_finding(Finding::Level::note,
                  fmt::format("{} is of the unknown type {:#x}", escape(item.name), item.type));
      return;
    }
    sink(std::move(out));
  }

  /// Block n of a list begins with as many pointers as n has factors of two, and one more; the first block
  /// has none. The head is the last block.
  std::vector<Extent> blocks_of(std::uint32_t head, std::uint64_t size) const {
    std::uint64_t block = super_.block_size;
    std::vector<std::uint64_t> begins = {0};
    while (begins.back() + room(begins.size() - 1) < size) {
      if (begins.size() == kMostBlocks) throw LimitExceeded("LittleFS: a file of too many blocks");
      begins.push_back(begins.back() + room(begins.size() - 1));
    }
    std::vector<Extent> out(begins.size());
    std::uint64_t at = head;
    for (std::size_t n = begins.size(); n-- > 0;) {
      if (at >= super_.block_count)
        throw Malformed(
            fmt::format("LittleFS: block {} of a file lies at {}, there are {}", n, at, super_.block_count));
      std::uint64_t pointers = block - room(n);
      out[n] = {begins[n], at * block + pointers, std::min(room(n), size - begins[n])};
      if (n > 0) {
        Bytes raw = read_exactly(*image_, at * block, 4, "LittleFS block list");
        at = load_little<std::uint32_t>(raw.data());
      }
    }
    return out;
  }

  /// Bytes of data in block n of a list.
  std::uint64_t room(std::size_t n) const {
    return super_.block_size - (n == 0 ? 0 : 4 * (static_cast<std::uint64_t>(std::countr_zero(n)) + 1));
  }

  SourcePtr image_;
  Super super_;
};

Match recognise_littlefs(Probe& probe) {
  if (super_of(probe.head(64))) return Match::front;
  // the first block may be the older or a damaged one
  return as_text(probe.head(16)).find("littlefs") == 8 ? Match::weak : Match::none;
}

ContainerPtr open_littlefs(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  auto super = super_of(read_up_to(*image, 0, 64));
  if (!super) throw Unsupported("LittleFS of another version than 2, or with a damaged first block");
  return std::make_shared<LittleFsContainer>(std::move(image), *super, context);
}

}  // namespace

Format littlefs_format() {
  return {.id = "littlefs",
          .name = "LittleFS file system",
          .family = "file system",
          .specification = "LittleFS specification, disk versions 2.0 and 2.1",
          .reads =
              "metadata pairs with their checksums, files within them and in lists of blocks, folders of "
              "several pairs",
          .lacks = "version 1, attributes of users, moves that were not finished",
          .suffixes = {".lfs", ".littlefs"},
          .recognise = recognise_littlefs,
          .open = open_littlefs};
}

}  // namespace operculum
