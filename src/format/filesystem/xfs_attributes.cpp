// Extended attributes of XFS: in the inode, or in blocks of a tree whose leaves are a chain. Large values lie
// in blocks of their own, which in version 5 begin with a header.
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "format/filesystem/xfs_volume.h"

namespace operculum::xfs {
namespace {

constexpr std::uint16_t kLeaf = 0xFBEE, kLeaf5 = 0x3BEE, kNode = 0xFEBE, kNode5 = 0x3EBE;
enum Flag : std::uint8_t { kLocal = 1, kRoot = 2, kSecure = 4, kParent = 8, kIncomplete = 0x80 };

constexpr std::uint32_t kLargestValue = 65536;

using Attributes = std::vector<std::pair<std::string, std::string>>;

/// Pointers to parents, and what was being written, are nobody's attributes.
bool is_told(std::uint8_t flags) {
  return (flags & (kParent | kIncomplete)) == 0;
}

std::string full_name(std::string_view name, std::uint8_t flags) {
  std::string_view space = (flags & kRoot) != 0 ? "trusted." : (flags & kSecure) != 0 ? "security." : "user.";
  if (name == "SGI_ACL_FILE" && (flags & kRoot) != 0) return "system.posix_acl_access";
  if (name == "SGI_ACL_DEFAULT" && (flags & kRoot) != 0) return "system.posix_acl_default";
  return std::string(space) + std::string(name);
}

class Blocks {
 public:
  Blocks(const Source& fork, const Superblock& super) : fork_(fork), super_(super) {}

  Attributes read() {
    std::uint32_t at = first_leaf();
    for (std::uint64_t left = fork_.size() / super_.blocksize; left > 0; --left) {
      Bytes raw = block(at);
      BigFields f(raw, "XFS attribute block", std::uint64_t{at} * super_.blocksize);
      leaf(f);
      at = f.u32(0);  // forw
      if (at == 0) return std::move(out_);
    }
    throw Malformed("XFS attributes: their blocks form a loop");
  }

 private:
  bool sums() const { return super_.has_checksums(); }

  Bytes block(std::uint64_t number) const {
    return read_exactly(fork_, number * super_.blocksize, super_.blocksize, "XFS attribute block");
  }

  /// Down the left side of the tree.
  std::uint32_t first_leaf() const {
    std::uint32_t at = 0;
    constexpr int kDeepest = 16;
    for (int level = 0; level < kDeepest; ++level) {
      Bytes raw = block(at);
      BigFields f(raw, "XFS attribute block", std::uint64_t{at} * super_.blocksize);
      std::uint16_t magic = f.u16(8);
      if (magic != (sums() ? kNode5 : kNode)) return at;
      constexpr std::size_t node_header_size = 16, node_header_size5 = 64;
      at = f.u32((sums() ? node_header_size5 : node_header_size) + 4);  // the first entry's block
    }
    throw Malformed("XFS attributes: their tree is deeper than any");
  }

  void leaf(const BigFields& f) {
    constexpr std::size_t count_at = 12, count_at5 = 56, leaf_header_size = 32, leaf_header_size5 = 80,
                          crc_at = 12;
    if (f.u16(8) != (sums() ? kLeaf5 : kLeaf))
      throw Malformed(fmt::format(
          "XFS attribute block at byte {} of its fork: expected the magic of a leaf, found 0x{:04x}",
          f.base(), f.u16(8)));
    if (sums() && !fits_checksum(f.all(), crc_at))
      throw Malformed(
          fmt::format("XFS attribute block at byte {} of its fork: it does not fit its checksum", f.base()));
    std::size_t count = f.u16(sums() ? count_at5 : count_at),
                head = sums() ? leaf_header_size5 : leaf_header_size;
    for (std::size_t i = 0; i < count; ++i) {
      std::size_t at = f.u16(head + i * 8 + 4);
      std::uint8_t flags = f.u8(head + i * 8 + 6);
      if (!is_told(flags)) continue;
      if ((flags & kLocal) != 0) {
        std::size_t size = f.u16(at), length = f.u8(at + 2);
        out_.emplace_back(full_name(f.text(at + 3, length), flags), f.text(at + 3 + length, size));
      } else {
        std::string name = full_name(f.text(at + 9, f.u8(at + 8)), flags);
        out_.emplace_back(std::move(name), value(f.u32(at), f.u32(at + 4)));
      }
    }
  }

  std::string value(std::uint64_t number, std::uint32_t size) const {
    constexpr std::size_t value_header_size = 56;
    if (size > kLargestValue)
      throw Malformed(
          fmt::format("XFS attributes: expected a value of at most {} bytes, found {}", kLargestValue, size));
    std::string value;
    for (; value.size() < size; ++number) {
      Bytes raw = block(number);
      ByteView bytes = raw;
      if (sums()) bytes = bytes.subspan(value_header_size);
      value += as_text(bytes.first(std::min<std::size_t>(bytes.size(), size - value.size())));
    }
    return value;
  }

  const Source& fork_;
  const Superblock& super_;
  Attributes out_;
};

}  // namespace

/// Their size in bytes, how many, then of each the lengths of name and value, flags, name and value.
Attributes short_attributes(ByteView fork) {
  BigFields f(fork, "XFS attributes");
  std::size_t count = f.u8(2), at = 4;
  Attributes out;
  for (std::size_t i = 0; i < count; ++i) {
    std::size_t length = f.u8(at), size = f.u8(at + 1);
    std::uint8_t flags = f.u8(at + 2);
    std::string_view name = f.text(at + 3, length), value = f.text(at + 3 + length, size);
    at += 3 + length + size;
    if (is_told(flags)) out.emplace_back(full_name(name, flags), value);
  }
  return out;
}

Attributes block_attributes(const Source& fork, const Superblock& super) {
  return Blocks(fork, super).read();
}

}  // namespace operculum::xfs
