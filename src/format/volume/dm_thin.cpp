#include "format/volume/dm_thin.h"

#include <fmt/format.h>

#include <optional>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure.h"
#include "base/sum_text.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::uint64_t kBlock = 4096, kThinSector = 512, kThinMagic = 27022010;
constexpr std::uint32_t kSuperSalt = 160774, kNodeSalt = 121107;  // SUPERBLOCK_CSUM_XOR, BTREE_CSUM_XOR
constexpr std::size_t kKeysAt = 32;
constexpr unsigned kDeepest = 17;

/// struct thin_disk_superblock.
struct Superblock {
  std::uint32_t csum = 0, flags = 0;
  std::uint64_t magic = 0;
  std::uint32_t version = 0;
  std::uint64_t data_mapping_root = 0;
  std::uint32_t data_block_size = 0;  ///< sectors
  static constexpr auto layout =
      little_endian(field("csum", &Superblock::csum), field("flags", &Superblock::flags), from_byte<32>(),
                    field("magic", &Superblock::magic), field("version", &Superblock::version),
                    from_byte<320>(), field("data_mapping_root", &Superblock::data_mapping_root),
                    from_byte<336>(), field("data_block_size", &Superblock::data_block_size));
};

/// struct node_header.
struct NodeHeader {
  std::uint32_t csum = 0, flags = 0;
  std::uint64_t blocknr = 0;
  std::uint32_t nr_entries = 0, max_entries = 0, value_size = 0;
  static constexpr std::uint32_t leaf = 2;
  static constexpr auto layout = little_endian(
      field("csum", &NodeHeader::csum), field("flags", &NodeHeader::flags),
      field("blocknr", &NodeHeader::blocknr), field("nr_entries", &NodeHeader::nr_entries),
      field("max_entries", &NodeHeader::max_entries), field("value_size", &NodeHeader::value_size));
};

/// Throws Malformed unless a block fits the sum that it begins with.
void compare_sum(ByteView block, std::uint32_t salt, std::uint64_t at) {
  std::uint32_t own = crc32c(~0U, block.subspan(4)) ^ salt, stored = load_little<std::uint32_t>(block.data());
  if (!sum_fits(own, stored))
    throw Malformed(fmt::format("thin metadata at offset {}: the block does not fit its checksum{}", at,
                                told_sums(stored, own)));
}

struct Found {
  std::optional<std::uint64_t> value;
  std::uint64_t next = UINT64_MAX;  ///< the next key that has a value
};

/// Looks a key up in the tree of 64-bit values with its root in block `root`.
Found find(const Source& metadata, std::uint64_t root, std::uint64_t key) {
  Found out;
  std::uint64_t block = root;
  for (unsigned level = 0; level < kDeepest; ++level) {
    std::uint64_t at = checked_mul(block, kBlock, "a block of thin metadata");
    Bytes raw = read_exactly(metadata, at, kBlock, "thin metadata");
    NodeHeader head = read_structure<NodeHeader>(raw.data());
    constexpr std::uint32_t kMost = (kBlock - kKeysAt) / 16;
    compare_sum(raw, kNodeSalt, at);
    if (head.blocknr != block || head.value_size != 8 || head.max_entries > kMost ||
        head.nr_entries > head.max_entries)
      throw Malformed(fmt::format(
          "thin metadata at offset {}: block {} is no node of a tree: expected its number, values of 8 bytes "
          "and at most {} entries, found {}, {} and {} of {}",
          at, block, kMost, head.blocknr, head.value_size, head.nr_entries, head.max_entries));
    auto key_at = [&](std::size_t i) { return load_little<std::uint64_t>(raw.data() + kKeysAt + i * 8); };
    auto value_at = [&](std::size_t i) {
      return load_little<std::uint64_t>(raw.data() + kKeysAt + (head.max_entries + i) * 8);
    };
    std::size_t low = 0, high = head.nr_entries;  // of the first key behind
    while (low < high) {
      std::size_t middle = (low + high) / 2;
      if (key_at(middle) <= key) {
        low = middle + 1;
      } else {
        high = middle;
      }
    }
    if (low < head.nr_entries) out.next = std::min(out.next, key_at(low));
    if (low == 0) return out;
    if ((head.flags & NodeHeader::leaf) != 0) {
      if (key_at(low - 1) == key) out.value = value_at(low - 1);
      return out;
    }
    block = value_at(low - 1);
  }
  throw Malformed(fmt::format("thin metadata: a tree is deeper than {} levels", kDeepest));
}

class ThinSource final : public MappedSource {
 public:
  explicit ThinSource(ThinVolume volume)
      : MappedSource(volume.data, volume.size, volume.origin),
        metadata_(make_cached(std::move(volume.metadata), kBlock)),
        from_origin_(volume.origin != nullptr) {
    Bytes raw = read_exactly(*metadata_, 0, kBlock, "thin metadata");
    Superblock super = read_structure<Superblock>(raw.data());
    if (super.magic != kThinMagic) throw Malformed("thin metadata: the magic is missing");
    compare_sum(raw, kSuperSalt, 0);
    if (super.version != 1 && super.version != 2)
      throw Unsupported(fmt::format("thin metadata of version {}", super.version));
    block_ = super.data_block_size * kThinSector;
    if (block_ == 0) throw Malformed("thin metadata: blocks of 0 bytes are not possible");
    Found root = find(*metadata_, super.data_mapping_root, volume.device);
    if (!root.value) throw Malformed(fmt::format("thin metadata: there is no volume {}", volume.device));
    root_ = *root.value;
  }

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    constexpr unsigned kTimeBits = 24;  // below the block, when it was mapped
    std::uint64_t index = offset / block_, within = offset % block_;
    Found found = find(*metadata_, root_, index);
    if (found.value)
      return {MappedRun::From::stored, block_ - within, (*found.value >> kTimeBits) * block_ + within};
    auto from = from_origin_ ? MappedRun::From::parent : MappedRun::From::zeros;
    std::uint64_t last = size() / block_ + 1;
    return {from, (std::min(found.next, last) - index) * block_ - within};
  }

 private:
  SourcePtr metadata_;
  std::uint64_t block_ = 0, root_ = 0;
  bool from_origin_;
};

}  // namespace

SourcePtr make_thin_volume(ThinVolume volume) {
  return std::make_shared<ThinSource>(std::move(volume));
}

}  // namespace operculum
