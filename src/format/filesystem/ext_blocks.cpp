#include "format/filesystem/ext_blocks.h"

#include <fmt/format.h>

#include "base/checksum.h"
#include "base/units.h"
#include "format/filesystem/ext_records.h"

namespace operculum::ext {

std::uint64_t BlocksInUse::groups() const {
  const Superblock& super = volume_.super();
  return (super.blocks - super.first_data_block + super.blocks_per_group - 1) / super.blocks_per_group;
}

std::uint64_t BlocksInUse::first_of(std::uint64_t group) const {
  return volume_.super().first_data_block + group * volume_.super().blocks_per_group;
}

BlocksInUse::Group& BlocksInUse::group(std::uint64_t number) {
  auto [found, is_new] = groups_.try_emplace(number);
  Group& out = found->second;
  if (!is_new) return out;
  const Superblock& super = volume_.super();
  Bytes raw = patches_.read(volume_.descriptor_place(number), super.descriptor_size);
  auto record = read_structure<GroupDescriptor>(raw.data());
  std::uint64_t bitmap = record.bitmap_low;
  if (raw.size() >= kWideDescriptorSize)
    bitmap |= std::uint64_t{read_structure<WideDescriptor>(raw.data() + kGroupDescriptorSize).bitmap_high}
              << 32;
  bool never_written = (super.has(group_checksum_feature) || super.has(metadata_checksum_feature)) &&
                       (record.flags & GroupDescriptor::kBlocksUninit) != 0;
  if (never_written) return out;
  out.usable = true;
  out.bitmap_at = bitmap * super.block_size;
  out.bitmap = patches_.read(out.bitmap_at, super.block_size);
  return out;
}

void BlocksInUse::free(std::uint64_t block) {
  const Superblock& super = volume_.super();
  std::uint64_t within = block - super.first_data_block;
  Group& one = group(within / super.blocks_per_group);
  within %= super.blocks_per_group;
  auto mask = static_cast<Byte>(1U << (within % 8));
  if (!one.usable || (one.bitmap[within / 8] & mask) == 0)
    throw Malformed(fmt::format("block {} is in use and marked as free: the file system is damaged", block));
  one.bitmap[within / 8] &= static_cast<Byte>(~mask);
  ++one.freed;
}

std::vector<std::uint64_t> BlocksInUse::take(std::uint64_t count, std::uint64_t near) {
  const Superblock& super = volume_.super();
  std::vector<std::uint64_t> out;
  std::uint64_t first_group = (near - super.first_data_block) / super.blocks_per_group, all = groups();
  for (std::uint64_t i = 0; i <= all && out.size() < count; ++i) {
    std::uint64_t number = (first_group + i) % all;
    Group& one = group(number);
    if (!one.usable) continue;
    std::uint64_t begin = i == 0 ? near - first_of(number) : 0;
    std::uint64_t end = std::min<std::uint64_t>(super.blocks_per_group, super.blocks - first_of(number));
    for (std::uint64_t bit = begin; bit < end && out.size() < count; ++bit) {
      Byte& byte = one.bitmap[bit / 8];
      auto mask = static_cast<Byte>(1U << (bit % 8));
      if ((byte & mask) != 0) continue;
      byte |= mask;
      --one.freed;
      out.push_back(first_of(number) + bit);
    }
  }
  if (out.size() < count) {
    throw Unsupported(fmt::format("an ext file system larger than it is: {} are free, {} more are needed",
                                  human_size(out.size() * super.block_size),
                                  human_size(count * super.block_size)));
  }
  return out;
}

void BlocksInUse::write(Patches& patches) const {
  const Superblock& super = volume_.super();
  std::int64_t freed = 0;
  for (const auto& [number, one] : groups_) {
    if (!one.usable) continue;
    patches.put(one.bitmap_at, one.bitmap);
    write_descriptor(number, one, patches);
    freed += one.freed;
  }
  Bytes raw = patches.read(kSuperAt, kSuperSize);
  auto counts = read_structure<SuperRecord>(raw.data());
  std::uint64_t free = counts.free_blocks_low |
                       (super.has(is_64bit_feature) ? std::uint64_t{counts.free_blocks_high} << 32 : 0);
  free += static_cast<std::uint64_t>(freed);
  counts.free_blocks_low = static_cast<std::uint32_t>(free);
  if (super.has(is_64bit_feature)) counts.free_blocks_high = static_cast<std::uint32_t>(free >> 32);
  write_structure(counts, raw.data());
  if (super.has(metadata_checksum_feature)) {
    counts.checksum = crc32c(~0U, ByteView(raw).first(kSuperSize - 4));
    write_structure(counts, raw.data());
  }
  patches.put(kSuperAt, raw);
}

void BlocksInUse::write_descriptor(std::uint64_t number, const Group& one, Patches& patches) const {
  const Superblock& super = volume_.super();
  Bytes raw = patches.read(volume_.descriptor_place(number), super.descriptor_size);
  auto record = read_structure<GroupDescriptor>(raw.data());
  bool wide = raw.size() >= kWideDescriptorSize;
  WideDescriptor more =
      wide ? read_structure<WideDescriptor>(raw.data() + kGroupDescriptorSize) : WideDescriptor{};
  std::uint32_t free = record.free_low | std::uint32_t{more.free_high} << 16;
  free += static_cast<std::uint32_t>(one.freed);
  record.free_low = static_cast<std::uint16_t>(free);
  more.free_high = static_cast<std::uint16_t>(free >> 16);
  if (super.has(metadata_checksum_feature)) {
    std::uint32_t sum = crc32c(volume_.seed(), ByteView(one.bitmap).first(super.blocks_per_group / 8));
    record.bitmap_sum_low = static_cast<std::uint16_t>(sum);
    more.bitmap_sum_high = static_cast<std::uint16_t>(sum >> 16);
  }
  write_structure(record, raw.data());
  if (wide) write_structure(more, raw.data() + kGroupDescriptorSize);
  record.checksum = volume_.descriptor_sum(number, raw).value_or(record.checksum);
  write_structure(record, raw.data());
  patches.put(volume_.descriptor_place(number), raw);
}

}  // namespace operculum::ext
