#include "format/filesystem/f2fs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/sum_text.h"
#include "io/cached_source.h"

namespace operculum::f2fs {
namespace {

constexpr std::size_t kNatEntry = size_on_disk<NatEntry>, kNatInBlock = kBlock / kNatEntry, kJournal = 507;
constexpr std::size_t kJournalEntry = size_on_disk<JournalRow> + kNatEntry;
constexpr std::size_t kSummaryEntries = 3584;  ///< bytes in front of a summary block's journal
constexpr std::size_t kNodeFooterAt = 4072, kInodeChecksumAt = 368;

/// Of an inode's block; the field that holds it counts as zeros.
std::uint32_t inode_sum(const Superblock& super, const Inode& inode) {
  Byte number[4], generation[4], zeros[4] = {};
  for (unsigned i = 0; i < 4; ++i) {
    number[i] = static_cast<Byte>(inode.number >> (8 * i));
    generation[i] = static_cast<Byte>(inode.generation >> (8 * i));
  }
  std::uint32_t sum = crc32_plain(crc32_plain(crc32_plain(~0U, super.uuid), number), generation);
  ByteView all = inode.node;
  sum = crc32_plain(crc32_plain(sum, all.first(kInodeChecksumAt)), zeros);
  return crc32_plain(sum, all.subspan(kInodeChecksumAt + 4));
}

}  // namespace

Superblock read_superblock(ByteView raw, std::uint64_t at) {
  if (raw.size() < size_on_disk<Superblock>) throw CutShort("F2FS superblock: the image is cut short");
  Superblock super = read_structure<Superblock>(raw.data());
  auto refuse = [&](auto member, std::string_view expected, std::uint64_t found) {
    refuse_field("F2FS superblock", at, member, expected, fmt::format("{}", found));
  };
  if (super.magic != kMagic)
    refuse_field("F2FS superblock", at, &Superblock::magic, fmt::format("{:#x}", kMagic),
                 fmt::format("{:#x}", super.magic));
  if (super.log_blocksize != 12) {
    if (super.log_blocksize == 14 || super.log_blocksize == 16)
      throw Unsupported(fmt::format("F2FS with blocks of {} bytes", 1U << super.log_blocksize));
    refuse(&Superblock::log_blocksize, "12", super.log_blocksize);
  }
  if (super.log_blocks_per_seg != 9) refuse(&Superblock::log_blocks_per_seg, "9", super.log_blocks_per_seg);
  if (super.nat_blkaddr >= super.block_count || super.cp_blkaddr >= super.nat_blkaddr)
    refuse(&Superblock::nat_blkaddr, fmt::format("between {} and {}", super.cp_blkaddr, super.block_count),
           super.nat_blkaddr);
  return super;
}

Volume::Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report)
    : image_(std::move(image)), meta_(make_cached(image_)) {
  std::string wrong;
  bool read = false;
  for (std::uint64_t at : {kSuperAt, kBlock + kSuperAt}) {
    try {
      super_ = read_superblock(read_up_to(*image_, at, size_on_disk<Superblock>), at);
      read = true;
      break;
    } catch (const Malformed& error) {
      if (wrong.empty()) wrong = error.what();
    }
  }
  if (!read) throw Malformed(wrong);
  if (!wrong.empty())
    report(Finding::Level::fault, fmt::format("the superblock is damaged ({}); its copy was used", wrong));
  if (super_.second_device[0] != 0) throw Unsupported("F2FS on several devices");

  std::uint64_t pack = 0;
  Bytes head;
  bool found = false;
  for (std::uint64_t which : {0, 1}) {
    Checkpoint one;
    Bytes block;
    std::uint64_t at = (super_.cp_blkaddr + (which << super_.log_blocks_per_seg)) * kBlock;
    if (!read_checkpoint(at, one, block) || (found && one.version <= checkpoint_.version)) continue;
    checkpoint_ = one;
    head = std::move(block);
    pack = at;
    found = true;
  }
  if (!found) throw Malformed("F2FS: neither checkpoint fits its checksum");
  // the bitmap of the segments' table lies in front, or in blocks of its own
  bool large = checkpoint_.has(large_nat_bitmap_checkpoint);
  std::size_t at = Checkpoint::bitmap_at + (large ? 4 : 0);
  if (!large && super_.cp_payload == 0) at += checkpoint_.sit_bitmap_size;
  nat_bitmap_ = read_exactly(*image_, pack + at, checkpoint_.nat_bitmap_size, "F2FS checkpoint");
  read_nat_journal(pack);
  if (!checkpoint_.has(unmounted_checkpoint))
    report(Finding::Level::warning,
           "it was not unmounted: what was written behind the newest checkpoint is missing");
  if (checkpoint_.has(errors_checkpoint)) report(Finding::Level::warning, "it is marked as damaged");
}

/// A pack is whole when its last block repeats its first one's version and both fit their checksums.
bool Volume::read_checkpoint(std::uint64_t at, Checkpoint& out, Bytes& block) const {
  auto read = [&](std::uint64_t place, Checkpoint& one) {
    block = read_up_to(*image_, place, kBlock);
    if (block.size() < kBlock) return false;
    one = read_structure<Checkpoint>(block.data());
    if (one.checksum_offset < Checkpoint::bitmap_at || one.checksum_offset > kBlock - 4) return false;
    ByteView all = block;
    std::uint32_t own = crc32_plain(kMagic, all.first(one.checksum_offset));
    if (one.checksum_offset < kBlock - 4) {  // behind it lies a part of the bitmap
      Byte zeros[4] = {};
      own = crc32_plain(crc32_plain(own, zeros), all.subspan(one.checksum_offset + 4));
      if (!one.has(large_nat_bitmap_checkpoint)) own = crc32_plain(kMagic, all.first(one.checksum_offset));
    }
    return sum_fits(own, LittleFields(all, "F2FS checkpoint").u32(one.checksum_offset));
  };
  Checkpoint last;
  if (!read(at, out) || out.total_blocks == 0 || out.total_blocks > (1U << super_.log_blocks_per_seg))
    return false;
  if (!read(at + (out.total_blocks - 1) * kBlock, last) || last.version != out.version) return false;
  return read(at, out) && out.nat_bitmap_size <= kBlock - Checkpoint::bitmap_at &&
         out.sit_bitmap_size <= kBlock - Checkpoint::bitmap_at;
}

void Volume::read_nat_journal(std::uint64_t pack) {
  // the summary of hot data: the first of three, or of six when nodes' summaries are there, too
  std::uint64_t index = checkpoint_.start_sum, skip = 0;
  if (!checkpoint_.has(compact_summaries_checkpoint)) {
    std::uint64_t behind =
        checkpoint_.has(unmounted_checkpoint) || checkpoint_.has(fast_boot_checkpoint) ? 6 : 3;
    if (checkpoint_.total_blocks < behind + 1) throw Malformed("F2FS checkpoint: its summaries are missing");
    index = checkpoint_.total_blocks - (behind + 1);
    skip = kSummaryEntries;
  }
  Bytes raw = read_exactly(*image_, pack + index * kBlock + skip, kJournal, "F2FS journal");
  LittleFields f(raw, "F2FS journal", pack + index * kBlock + skip);
  constexpr std::size_t head_size = size_on_disk<JournalHead>, row_size = size_on_disk<JournalRow>;
  std::size_t count = structure_at<JournalHead>(f, 0).n_nats;
  if (head_size + count * kJournalEntry > kJournal)
    throw Malformed(
        fmt::format("F2FS journal at offset {}: expected at most 38 entries, found {}", f.base(), count));
  for (std::size_t i = 0; i < count; ++i) {
    std::size_t at = head_size + i * kJournalEntry;
    std::uint32_t address = structure_at<NatEntry>(f, at + row_size).block_addr;
    nat_journal_[structure_at<JournalRow>(f, at).nid] = address;
  }
}

std::uint64_t Volume::place_of(std::uint32_t address) const {
  if (address < super_.main_blkaddr || address >= super_.block_count)
    throw Malformed(fmt::format("block {} is not one of the main area's {} to {}", address,
                                super_.main_blkaddr, super_.block_count));
  return address * kBlock;
}

Bytes Volume::node(std::uint32_t id) const {
  std::uint64_t index = id / kNatInBlock, segment = index >> super_.log_blocks_per_seg;
  if (segment >= super_.segment_count_nat / 2 || index / 8 >= nat_bitmap_.size())
    throw Malformed(fmt::format("node {} is not in the node address table", id));
  std::uint32_t address = 0;
  if (auto newer = nat_journal_.find(id); newer != nat_journal_.end()) {
    address = newer->second;
  } else {
    std::uint64_t in_segment = std::uint64_t{1} << super_.log_blocks_per_seg;
    std::uint64_t block = super_.nat_blkaddr + segment * 2 * in_segment + index % in_segment;
    if ((nat_bitmap_[static_cast<std::size_t>(index / 8)] >> (7 - index % 8) & 1) != 0) block += in_segment;
    Bytes entry =
        read_exactly(*meta_, block * kBlock + id % kNatInBlock * kNatEntry, kNatEntry, "F2FS NAT entry");
    address = read_structure<NatEntry>(entry.data()).block_addr;
  }
  if (address == 0) throw Malformed(fmt::format("node {} is not there", id));
  Bytes out = read_exactly(*meta_, place_of(address), kBlock, "F2FS node");
  if (std::uint32_t own = LittleFields(out, "F2FS node").u32(kNodeFooterAt); own != id)
    throw Malformed(
        fmt::format("F2FS node at offset {}: expected nid to be {}, found {}", place_of(address), id, own));
  return out;
}

Inode Volume::inode(std::uint32_t number) const {
  Bytes raw = node(number);
  Inode out = read_structure<Inode>(raw.data());
  out.number = number;
  out.node = std::move(raw);
  if (out.is(extra_attr_flag)) {
    if (out.extra_isize % 4 != 0 || out.extra_isize > 400)
      throw Malformed(
          fmt::format("inode {}: extra attributes of {} bytes are not possible", number, out.extra_isize));
    out.extra = out.extra_isize / 4;
  }
  constexpr std::size_t kUsualInlineXattrs = 50, kEnd = 28;  // the last field that is read here ends there
  if (super_.has(flexible_inline_attributes_feature) && out.is(extra_attr_flag)) {
    out.inline_xattrs = out.inline_xattr_size;
  } else if (out.is(inline_xattr_flag) || out.is(inline_folder_flag)) {
    out.inline_xattrs = kUsualInlineXattrs;
  }
  if (out.inline_xattrs + out.extra + 2 > kPointersInInode)
    throw Malformed(
        fmt::format("inode {}: attributes of {} words are not possible", number, out.inline_xattrs));
  if (super_.has(inode_checksum_feature) && out.is(extra_attr_flag) &&
      out.extra_isize >= kInodeChecksumAt + 4 - kInodePointersAt) {
    std::uint32_t own = inode_sum(super_, out);
    if (!sum_fits(own, out.inode_checksum)) out.wrong_sums = told_sums(out.inode_checksum, own);
  }
  if (!super_.has(creation_time_feature) || out.extra_isize < kEnd - 4 || !out.is(extra_attr_flag))
    out.crtime = 0;
  return out;
}

}  // namespace operculum::f2fs
