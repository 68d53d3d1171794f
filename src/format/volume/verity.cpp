#include "format/volume/verity.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cassert>

#include "base/checked.h"
#include "base/structure.h"
#include "base/text.h"
#include "cipher/key_derivation.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "io/aligned_source.h"
#include "io/block_cache.h"

namespace operculum::verity {
namespace {

struct Superblock {
  std::array<Byte, 8> signature{};
  std::uint32_t version = 0, hash_type = 0;
  std::array<Byte, 16> uuid{};
  std::array<Byte, 32> algorithm{};
  std::uint32_t data_block_size = 0, hash_block_size = 0;
  std::uint64_t data_blocks = 0;
  std::uint16_t salt_size = 0;
  std::array<Byte, 256> salt{};
  static constexpr auto layout = little_endian(
      field("signature", &Superblock::signature), field("version", &Superblock::version),
      field("hash_type", &Superblock::hash_type), field("uuid", &Superblock::uuid),
      field("algorithm", &Superblock::algorithm), field("data_block_size", &Superblock::data_block_size),
      field("hash_block_size", &Superblock::hash_block_size), field("data_blocks", &Superblock::data_blocks),
      field("salt_size", &Superblock::salt_size), from_byte<88>(), field("salt", &Superblock::salt));
};

bool is_block_size(std::uint32_t size) {
  return std::has_single_bit(size) && size >= 512 && size <= (1 << 20);
}

/// Where each level lies, as the kernel works it out.
void lay_out(Tree& tree) {
  tree.digest_size = hash_of(tree.algorithm, {}).size();
  assert(tree.digest_size <= tree.hash_block / 2);  // no hash has more than 64 bytes, no block less than 512
  tree.bits = static_cast<unsigned>(std::bit_width(tree.hash_block / tree.digest_size)) - 1;
  unsigned levels = 0;
  while (tree.bits * levels < 64 && (tree.data_blocks - 1) >> (tree.bits * levels) != 0) ++levels;
  tree.levels.resize(levels);
  std::uint64_t place = tree.at / tree.hash_block + 1;
  for (unsigned level = levels; level-- > 0;) {
    tree.levels[level] = place * tree.hash_block;
    unsigned shift = (level + 1) * tree.bits;
    std::uint64_t count = shift >= 64 ? 1 : ((tree.data_blocks - 1) >> shift) + 1;
    place += count;
  }
  tree.end = checked_mul(place, tree.hash_block, "the end of the hash tree");
}

Bytes hash_with_salt(const Tree& tree, ByteView block) {
  Bytes all;
  all.reserve(block.size() + tree.salt.size());
  if (tree.hash_type == 1) all = tree.salt;
  all.insert(all.end(), block.begin(), block.end());
  if (tree.hash_type == 0) all.insert(all.end(), tree.salt.begin(), tree.salt.end());
  Secret digest = hash_of(tree.algorithm, all);
  return Bytes(digest.view().begin(), digest.view().end());
}

class VerifiedSource final : public AlignedSource {
 public:
  VerifiedSource(SourcePtr data, SourcePtr hashes, Tree tree, Bytes root)
      : AlignedSource(tree.data_block, kMostBlocks),
        data_(std::move(data)),
        hashes_(std::move(hashes)),
        tree_(std::move(tree)),
        root_(std::move(root)) {}

  std::uint64_t size() const override { return tree_.data_size(); }

 protected:
  void read_units(std::uint64_t offset, ByteSpan out) const override {
    if (data_->read_at(offset, out) < out.size())
      throw CutShort(
          fmt::format("the data that the hash tree is of is cut short: expected {} bytes, found {}", size(),
                      data_->size()));
    for (std::size_t at = 0; at < out.size(); at += tree_.data_block) {
      std::uint64_t number = (offset + at) / tree_.data_block;
      if (hash_with_salt(tree_, out.subspan(at, tree_.data_block)) != expected(number, 0))
        throw Malformed(
            fmt::format("block {} at offset {} does not fit its dm-verity hash", number, offset + at));
    }
  }

 private:
  static constexpr std::size_t kMostBlocks = 64;

  /// The hash of a block of the level below `level`, out of a block that is compared itself.
  Bytes expected(std::uint64_t number, unsigned level) const {
    if (level == tree_.levels.size()) return root_;
    std::uint64_t block = tree_.bits >= 64 ? 0 : number >> tree_.bits;
    std::size_t within = static_cast<std::size_t>(number & ((std::uint64_t{1} << tree_.bits) - 1));
    std::size_t step = tree_.hash_type == 1 ? tree_.hash_block >> tree_.bits : tree_.digest_size;
    BytesPtr hashes = hash_block(level, block);
    auto begin = hashes->begin() + static_cast<std::ptrdiff_t>(within * step);
    return Bytes(begin, begin + static_cast<std::ptrdiff_t>(tree_.digest_size));
  }

  BytesPtr hash_block(unsigned level, std::uint64_t number) const {
    std::uint64_t at = tree_.levels[level] + number * tree_.hash_block;
    return fitting_.get(at, [&] {
      Bytes block = read_exactly(*hashes_, at, tree_.hash_block, "dm-verity hash tree");
      if (hash_with_salt(tree_, block) != expected(number, level + 1))
        throw Malformed(fmt::format("the hash tree's block at offset {} does not fit the hash above it", at));
      return block;
    });
  }

  SourcePtr data_, hashes_;
  Tree tree_;
  Bytes root_;
  mutable BlockCache fitting_{1 << 20};  ///< of the tree, by their places
};

}  // namespace

Tree read_tree(const Source& file, std::uint64_t at) {
  auto super = read_structure<Superblock>(
      read_exactly(file, at, size_on_disk<Superblock>, "dm-verity superblock").data());
  if (as_text(super.signature) != kMark)
    throw Malformed(fmt::format("dm-verity superblock at offset {}: the mark is missing", at));
  if (super.version != 1 || super.hash_type > 1)
    throw Unsupported(
        fmt::format("dm-verity of version {} with hashes of type {}", super.version, super.hash_type));
  if (!is_block_size(super.data_block_size))
    refuse_field("dm-verity superblock", at, &Superblock::data_block_size,
                 "a power of two from 512 to 1048576", fmt::format("{}", super.data_block_size));
  if (!is_block_size(super.hash_block_size))
    refuse_field("dm-verity superblock", at, &Superblock::hash_block_size,
                 "a power of two from 512 to 1048576", fmt::format("{}", super.hash_block_size));
  if (super.data_blocks == 0 || super.data_blocks > UINT64_MAX / super.data_block_size / 2)
    refuse_field("dm-verity superblock", at, &Superblock::data_blocks, "1 or more, within 64 bits of bytes",
                 fmt::format("{}", super.data_blocks));
  if (super.salt_size > super.salt.size())
    refuse_field("dm-verity superblock", at, &Superblock::salt_size, "at most 256",
                 fmt::format("{}", super.salt_size));
  Tree out;
  out.at = at;
  out.hash_type = super.hash_type;
  out.uuid = uuid_text(super.uuid);
  out.algorithm = std::string(until_zero(as_text(super.algorithm)));
  out.data_block = super.data_block_size;
  out.hash_block = super.hash_block_size;
  out.data_blocks = super.data_blocks;
  out.salt.assign(super.salt.begin(), super.salt.begin() + super.salt_size);
  lay_out(out);
  return out;
}

Tree find_tree(const Source& file) {
  constexpr std::uint64_t kStep = 512;
  if (starts_with(read_up_to(file, 0, kMark.size()), kMark)) return read_tree(file, 0);
  // behind the data: what says that it is of just as many bytes
  constexpr std::size_t kWindow = 1 << 20;
  for (std::uint64_t at = 0; at < file.size(); at += kWindow) {
    Bytes window = read_up_to(file, at, kWindow);
    for (std::size_t within = 0; within < window.size(); within += kStep) {
      if (!starts_with(ByteView(window).subspan(within), kMark)) continue;
      try {
        Tree tree = read_tree(file, at + within);
        if (tree.data_size() <= tree.at) return tree;
      } catch (const Error&) {  // bytes of the data that look like one
      }
    }
  }
  throw Malformed("there is no dm-verity superblock in the file, neither at its begin nor behind its data");
}

Bytes root_of(const Tree& tree, const Source& hashes) {
  if (tree.levels.empty()) return {};
  return hash_with_salt(tree,
                        read_exactly(hashes, tree.levels.back(), tree.hash_block, "dm-verity hash tree"));
}

SourcePtr make_verified(SourcePtr data, SourcePtr hashes, const Tree& tree,
                        const std::optional<Bytes>& root) {
  Bytes own = tree.levels.empty() ? hash_with_salt(tree, read_exactly(*data, 0, tree.data_block, "the data"))
                                  : root_of(tree, *hashes);
  if (root && *root != own)
    throw Malformed(
        fmt::format("dm-verity: expected the root hash {}, found {}", to_hex(*root), to_hex(own)));
  return std::make_shared<VerifiedSource>(std::move(data), std::move(hashes), tree, std::move(own));
}

KnownRecord known_superblock() {
  return record_at<Superblock>("superblock", 0);
}

}  // namespace operculum::verity
