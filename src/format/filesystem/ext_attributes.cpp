// Extended attributes: in the inode behind its fields, in a block of their own, and large values in inodes.
#include <fmt/format.h>

#include "base/checksum.h"
#include "base/error.h"
#include "base/fields.h"
#include "base/sum_text.h"
#include "format/filesystem/ext_sums.h"
#include "format/filesystem/ext_volume.h"

namespace operculum::ext {
namespace {

constexpr std::uint64_t kMostValue = 64 << 10;  // bytes
constexpr std::string_view kPrefixes[] = {
    "",          "user.",   "system.posix_acl_access", "system.posix_acl_default", "trusted.", "",
    "security.", "system.", "system.richacl"};

std::string_view prefix_of(std::uint8_t index) {
  return index < std::size(kPrefixes) ? kPrefixes[index] : std::string_view();
}

}  // namespace

ExtendedAttributes Volume::attributes(const Inode& inode) const {
  ExtendedAttributes out;
  constexpr std::size_t kMarkSize = 4;  // in front of those in an inode
  if (inode.extra.size() >= kMarkSize && load_little<std::uint32_t>(inode.extra.data()) == kAttributeMagic) {
    ByteView entries = ByteView(inode.extra).subspan(kMarkSize);
    add_attributes(entries, entries, "ext inode attributes", out);
  }
  if (inode.attribute_block == 0) return out;
  Bytes raw = block(inode.attribute_block, "ext attribute block");
  auto head = read_structure<AttributeHead>(raw.data());
  if (head.magic != kAttributeMagic)
    throw Malformed(fmt::format("inode {}: its attribute block lacks the magic", inode.number));
  constexpr std::size_t kSumAt = place_of(&AttributeHead::checksum).at;
  if (super_.has(metadata_checksum_feature)) {
    std::uint32_t own = sum_without(with_number(seed_, inode.attribute_block, 8), raw, kSumAt, 4);
    if (!sum_fits(own, head.checksum))
      throw Malformed(fmt::format("inode {}: its attribute block does not fit its checksum{}", inode.number,
                                  told_sums(head.checksum, own)));
  }
  add_attributes(ByteView(raw).subspan(size_on_disk<AttributeHead>), raw, "ext attribute block", out);
  return out;
}

/// `values` is where the places of values count from.
void Volume::add_attributes(ByteView entries, ByteView values, std::string_view what,
                            ExtendedAttributes& out) const {
  constexpr std::size_t kEntry = size_on_disk<AttributeEntry>;
  LittleFields names(entries, what), data(values, "ext attribute value");
  for (std::size_t at = 0;
       at + kEntry <= entries.size() && load_little<std::uint32_t>(entries.data() + at) != 0;) {
    auto entry = read_structure<AttributeEntry>(entries.data() + at);
    std::string name(prefix_of(entry.name_index));
    name += names.text(at + kEntry, entry.name_length);
    if (entry.value_inode != 0) {
      Inode value = inode(entry.value_inode);
      if (value.size > kMostValue || value.has(inline_data_flag))
        throw Malformed(fmt::format("an attribute's inode {}: expected at most {} bytes in blocks, found {}",
                                    value.number, kMostValue, value.size));
      out.emplace_back(std::move(name), as_text(read_up_to(*this->data(value), 0, value.size)));
    } else {
      out.emplace_back(std::move(name), data.text(entry.value_at, entry.value_size));
    }
    at += kEntry + (std::size_t{entry.name_length} + 3) / 4 * 4;
  }
}

}  // namespace operculum::ext
