// Extended attributes of XFS: in the inode, or in blocks of a tree whose leaves are a chain. Large values lie
// in blocks of their own, which in version 5 begin with a header.
#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "format/filesystem/xfs_records.h"
#include "format/filesystem/xfs_volume.h"

namespace operculum::xfs {
namespace {

constexpr std::uint32_t kLargestValue = 65536;

/// Pointers to parents, and what was being written, are nobody's attributes.
bool is_told(std::uint8_t flags) {
  return (flags & (attribute_parent | attribute_incomplete)) == 0;
}

std::string full_name(std::string_view name, std::uint8_t flags) {
  std::string_view space = (flags & attribute_root) != 0     ? "trusted."
                           : (flags & attribute_secure) != 0 ? "security."
                                                             : "user.";
  if (name == "SGI_ACL_FILE" && (flags & attribute_root) != 0) return "system.posix_acl_access";
  if (name == "SGI_ACL_DEFAULT" && (flags & attribute_root) != 0) return "system.posix_acl_default";
  return std::string(space) + std::string(name);
}

class Blocks {
 public:
  Blocks(const Source& fork, const Superblock& super) : fork_(fork), super_(super) {}

  ExtendedAttributes read() {
    std::uint32_t at = first_leaf();
    for (std::uint64_t left = fork_.size() / super_.blocksize; left > 0; --left) {
      Bytes raw = block(at);
      BigFields f(raw, "XFS attribute block", std::uint64_t{at} * super_.blocksize);
      leaf(f);
      at = structure_at<AttributeBlock>(f, 0).forw;
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
      if (structure_at<AttributeBlock>(f, 0).magic != (sums() ? kNodeMagic5 : kNodeMagic)) return at;
      at = structure_at<NodeEntry>(f, sums() ? node_header_size5 : node_header_size).before;
    }
    throw Malformed("XFS attributes: their tree is deeper than any");
  }

  void leaf(const BigFields& f) {
    std::uint16_t magic = structure_at<AttributeBlock>(f, 0).magic;
    if (magic != (sums() ? kLeafMagic5 : kLeafMagic))
      throw Malformed(fmt::format(
          "XFS attribute block at byte {} of its fork: expected the magic of a leaf, found 0x{:04x}",
          f.base(), magic));
    if (sums() && !fits_checksum(f.all(), place_of(&LeafRecord5::crc).at))
      throw Malformed(
          fmt::format("XFS attribute block at byte {} of its fork: it does not fit its checksum{}", f.base(),
                      told_checksum(f.all(), place_of(&LeafRecord5::crc).at)));
    std::size_t count = sums() ? structure_at<LeafRecord5>(f, 0).count : structure_at<LeafRecord>(f, 0).count,
                head = sums() ? leaf_header_size5 : leaf_header_size;
    for (std::size_t i = 0; i < count; ++i) {
      auto entry = structure_at<LeafEntry>(f, head + i * size_on_disk<LeafEntry>);
      if (!is_told(entry.flags)) continue;
      if ((entry.flags & attribute_local) != 0) {
        auto local = structure_at<LocalAttribute>(f, entry.nameidx);
        std::size_t name_at = entry.nameidx + size_on_disk<LocalAttribute>;
        out_.emplace_back(full_name(f.text(name_at, local.namelen), entry.flags),
                          f.text(name_at + local.namelen, local.valuelen));
      } else {
        auto remote = structure_at<RemoteAttribute>(f, entry.nameidx);
        std::string_view name = f.text(entry.nameidx + size_on_disk<RemoteAttribute>, remote.namelen);
        out_.emplace_back(full_name(name, entry.flags), value(remote.valueblk, remote.valuelen));
      }
    }
  }

  std::string value(std::uint64_t number, std::uint32_t size) const {
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
  ExtendedAttributes out_;
};

}  // namespace

ExtendedAttributes short_attributes(ByteView fork) {
  BigFields f(fork, "XFS attributes");
  ExtendedAttributes out;
  std::size_t at = size_on_disk<ShortAttributes>;
  for (std::size_t left = structure_at<ShortAttributes>(f, 0).count; left > 0; --left) {
    auto head = structure_at<ShortAttribute>(f, at);
    at += size_on_disk<ShortAttribute>;
    std::string_view name = f.text(at, head.namelen), value = f.text(at + head.namelen, head.valuelen);
    at += name.size() + value.size();
    if (is_told(head.flags)) out.emplace_back(full_name(name, head.flags), value);
  }
  return out;
}

ExtendedAttributes block_attributes(const Source& fork, const Superblock& super) {
  return Blocks(fork, super).read();
}

}  // namespace operculum::xfs
