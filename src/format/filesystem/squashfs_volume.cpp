#include "format/filesystem/squashfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/fields.h"
#include "format/filesystem/squashfs_form.h"
#include "io/cached_source.h"

namespace operculum::squash {
namespace {

constexpr std::uint64_t kMostBlocks = 1 << 24;  // of one file: 2 TiB in blocks of the usual size
constexpr std::uint32_t kInFragment = 1;        // Block::tag

/// The next structure of a table.
template <typename S>
S take(MetaReader& reader) {
  return read_structure<S>(reader.take(size_on_disk<S>).data());
}

}  // namespace

MetaReader::MetaReader(const ReadBlock& read_block, std::uint64_t block, std::uint64_t offset)
    : read_block_(read_block), next_(block), at_(static_cast<std::size_t>(offset)) {
  turn();
  if (at_ > block_->size())
    throw Malformed("SquashFS: a reference leads behind the end of its metadata block");
}

Bytes MetaReader::take(std::size_t count) {
  Bytes out;
  while (out.size() < count) {
    if (at_ == block_->size()) {
      turn();
      at_ = 0;
      if (block_->empty()) throw Malformed("SquashFS: an empty metadata block");
    }
    std::size_t part = std::min(count - out.size(), block_->size() - at_);
    out.insert(out.end(), block_->begin() + static_cast<std::ptrdiff_t>(at_),
               block_->begin() + static_cast<std::ptrdiff_t>(at_ + part));
    at_ += part;
  }
  return out;
}

Volume::Volume(SourcePtr image) : image_(std::move(image)), meta_(make_cached(image_)) {
  super_ = read_structure<Super>(read_exactly(*image_, 0, kSuperSize, "SquashFS superblock").data());
  if (super_.major != 4 || super_.minor != 0)
    throw Unsupported(fmt::format("SquashFS {}.{} (4.0 is read)", super_.major, super_.minor));
  codec_ = codec_of(super_);
  if (super_.block_size < 4096 || super_.block_size > (1 << 20) ||
      (super_.block_size & (super_.block_size - 1)) != 0)
    throw Malformed(
        fmt::format("SquashFS superblock: a block size of {} bytes is not possible", super_.block_size));
}

Bytes Volume::codec_options() {
  if ((super_.flags & has_codec_options) == 0) return {};
  std::uint64_t next = 0;
  return *read_meta(kSuperSize, next);
}

// ---- metadata

MetaReader Volume::folder(const Inode& inode) {
  return {read_block_, checked_add(super_.folder_table, inode.start, "a folder's place"), inode.offset};
}

BytesPtr Volume::read_meta(std::uint64_t at, std::uint64_t& next) {
  Bytes head = read_exactly(*meta_, at, 2, "SquashFS metadata block");
  std::uint16_t word = load_little<std::uint16_t>(head.data());
  std::uint64_t size = word & ~kMetaStored;
  if (size > kMetaBlock || size == 0)
    throw Malformed(fmt::format("SquashFS metadata block at offset {}: {} bytes are not possible", at, size));
  next = at + 2 + size;
  return meta_blocks_.get(at, [&] {
    Bytes packed = read_exactly(*meta_, at + 2, size, "SquashFS metadata block");
    if ((word & kMetaStored) != 0) return packed;
    Bytes out(kMetaBlock);
    out.resize(decode_block(codec_, packed, out));
    return out;
  });
}

/// `count` records of a table that is reached through a list of its blocks' places.
Bytes Volume::table_record(std::uint64_t list, std::uint64_t index, std::size_t record) {
  std::uint64_t per_block = kMetaBlock / record;
  Bytes place =
      read_exactly(*meta_, checked_add(list, index / per_block * 8, "a table"), 8, "SquashFS table");
  MetaReader reader(read_block_, load_little<std::uint64_t>(place.data()), (index % per_block) * record);
  return reader.take(record);
}

void Volume::read_ids() {
  for (std::uint32_t i = 0; i < super_.ids; ++i)
    ids_.push_back(load_little<std::uint32_t>(table_record(super_.id_table, i, 4).data()));
}

Inode Volume::inode(std::uint64_t ref, std::vector<std::uint32_t>* block_sizes) {
  MetaReader reader(read_block_, checked_add(super_.inode_table, ref >> 16, "an inode's place"),
                    ref & 0xFFFF);
  auto head = take<InodeHead>(reader);
  Inode n;
  n.type = head.type;
  n.mode = head.mode & 07777;
  n.uid = id(head.uid);
  n.gid = id(head.gid);
  n.time = head.time;
  n.number = head.number;
  auto take_attributes = [&] { n.attributes = load_little<std::uint32_t>(reader.take(4).data()); };
  switch (n.type) {
    case Type::folder: {
      auto record = take<FolderInode>(reader);
      n.start = record.start;
      n.links = record.links;
      n.size = record.size;
      n.offset = record.offset;
      break;
    }
    case Type::long_folder: {
      auto record = take<LongFolderInode>(reader);
      n.links = record.links;
      n.size = record.size;
      n.start = record.start;
      n.offset = record.offset;
      n.attributes = record.attributes;
      break;
    }
    case Type::file:
    case Type::long_file:
      read_file(n, reader, block_sizes);
      break;
    case Type::link:
    case Type::long_link: {
      auto record = take<LinkInode>(reader);
      n.links = record.links;
      n.size = record.size;
      if (n.size > 65536)
        throw Malformed(fmt::format("SquashFS: a link's target of {} bytes is not possible", n.size));
      n.target = as_text(reader.take(record.size));
      if (n.type == Type::long_link) take_attributes();
      break;
    }
    case Type::block_device:
    case Type::character_device:
    case Type::long_block_device:
    case Type::long_character_device: {
      auto record = take<DeviceInode>(reader);
      n.links = record.links;
      n.device = record.device;
      if (n.type >= Type::long_block_device) take_attributes();
      break;
    }
    case Type::fifo:
    case Type::socket:
    case Type::long_fifo:
    case Type::long_socket:
      n.links = load_little<std::uint32_t>(reader.take(4).data());
      if (n.type >= Type::long_fifo) take_attributes();
      break;
    default:
      throw Malformed(fmt::format("SquashFS inode: there is no type {}", n.type));
  }
  return n;
}

void Volume::read_file(Inode& n, MetaReader& reader, std::vector<std::uint32_t>* block_sizes) const {
  if (n.type == Type::file) {
    auto record = take<FileInode>(reader);
    n.start = record.start;
    n.fragment = record.fragment;
    n.offset = record.offset;
    n.size = record.size;
  } else {
    auto record = take<LongFileInode>(reader);
    n.start = record.start;
    n.size = record.size;
    n.sparse = record.sparse;
    n.links = record.links;
    n.fragment = record.fragment;
    n.offset = record.offset;
    n.attributes = record.attributes;
  }
  if (block_sizes == nullptr) return;
  std::uint64_t count = n.size / super_.block_size;
  if (n.fragment == kNoFragment && n.size % super_.block_size != 0) ++count;
  if (count > kMostBlocks)
    throw Malformed(fmt::format("SquashFS file inode: {} bytes are more than any file here has", n.size));
  while (count > 0) {  // piece by piece: a count without blocks behind it ends early
    auto part = static_cast<std::size_t>(std::min<std::uint64_t>(count, 2048));
    Bytes raw = reader.take(part * 4);
    for (std::size_t i = 0; i < part; ++i)
      block_sizes->push_back(load_little<std::uint32_t>(raw.data() + i * 4));
    count -= part;
  }
}

std::vector<std::pair<std::string, std::string>> Volume::attributes(std::uint32_t index) {
  std::vector<std::pair<std::string, std::string>> out;
  if (super_.attribute_table == kNoTable) return out;
  auto head = read_structure<AttributeTableHead>(read_exactly(*meta_, super_.attribute_table,
                                                              size_on_disk<AttributeTableHead>,
                                                              "SquashFS attribute table")
                                                     .data());
  if (index >= head.count) throw Malformed("SquashFS: an attribute number is out of range");
  constexpr std::size_t kRecord = size_on_disk<AttributeRecord>;
  auto record = read_structure<AttributeRecord>(
      table_record(super_.attribute_table + size_on_disk<AttributeTableHead>, index, kRecord).data());
  auto at = [&](std::uint64_t ref) {
    return MetaReader(read_block_, checked_add(head.pairs, ref >> 16, "an attribute"), ref & 0xFFFF);
  };
  MetaReader reader = at(record.reference);
  for (std::uint32_t i = 0; i < record.count; ++i) {
    Bytes key = reader.take(4);
    std::uint16_t type = load_little<std::uint16_t>(key.data());
    Bytes name = reader.take(load_little<std::uint16_t>(key.data() + 2));
    std::uint32_t size = load_little<std::uint32_t>(reader.take(4).data());
    if (size > 65536)
      throw Malformed(fmt::format("SquashFS: an attribute of {} bytes is not possible", size));
    Bytes value = reader.take(size);
    if ((type & 0x100) != 0 && size == 8) {  // kept elsewhere
      MetaReader elsewhere = at(load_little<std::uint64_t>(value.data()));
      size = load_little<std::uint32_t>(elsewhere.take(4).data());
      if (size > 65536)
        throw Malformed(fmt::format("SquashFS: an attribute of {} bytes is not possible", size));
      value = elsewhere.take(size);
    }
    if ((type & 0xFF) < std::size(kAttributePrefixes))
      out.emplace_back(std::string(kAttributePrefixes[type & 0xFF]) + std::string(as_text(name)),
                       as_text(value));
  }
  return out;
}

// ---- data

std::vector<Block> Volume::blocks(const Inode& inode, const std::vector<std::uint32_t>& sizes) const {
  std::vector<Block> blocks;
  std::uint64_t at = inode.start, done = 0;
  for (std::uint32_t size : sizes) {
    std::uint64_t unpacked = std::min<std::uint64_t>(super_.block_size, inode.size - done);
    blocks.push_back({done, unpacked, at, size, 0, size == 0});
    at += size & ~kDataStored;
    done += unpacked;
  }
  if (inode.fragment != kNoFragment && done < inode.size)
    blocks.push_back({done, inode.size - done, inode.offset, inode.fragment, kInFragment});
  return blocks;
}

void Volume::decode(const Block& block, ByteSpan out) {
  if (block.tag == kInFragment) {
    BytesPtr tails = fragment(static_cast<std::uint32_t>(block.stored_size));
    if (block.stored_offset > tails->size() || tails->size() - block.stored_offset < out.size())
      throw Malformed("SquashFS: a file's end is not within its fragment");
    std::copy_n(tails->begin() + static_cast<std::ptrdiff_t>(block.stored_offset), out.size(), out.begin());
    return;
  }
  if (block.stored_size == 0) {
    std::fill(out.begin(), out.end(), Byte{0});
  } else if (std::size_t got =
                 decode_data(block.stored_offset, static_cast<std::uint32_t>(block.stored_size), out);
             got != out.size()) {
    throw Malformed(fmt::format("SquashFS data block at offset {}: {} bytes come out, {} are expected",
                                block.stored_offset, got, out.size()));
  }
}

std::size_t Volume::decode_data(std::uint64_t at, std::uint32_t word, ByteSpan out) const {
  std::uint32_t size = word & ~kDataStored;
  if (size > super_.block_size)
    throw Malformed(
        fmt::format("SquashFS data block at offset {}: {} packed bytes are not possible", at, size));
  thread_local Bytes packed;
  packed.resize(size);
  std::size_t got = image_->read_at(at, packed);
  if (got < size)
    throw CutShort(fmt::format(
        "SquashFS data block at offset {}: {} of {} bytes are there; the image is cut short", at, got, size));
  return decode_block((word & kDataStored) != 0 ? BlockCodec::stored : codec_, packed, out);
}

FragmentRecord Volume::fragment_record(std::uint32_t index) {
  if (index >= super_.fragments)
    throw Malformed(fmt::format("SquashFS: fragment {} is not one of {}", index, super_.fragments));
  constexpr std::size_t kRecord = size_on_disk<FragmentRecord>;
  return read_structure<FragmentRecord>(table_record(super_.fragment_table, index, kRecord).data());
}

BytesPtr Volume::fragment(std::uint32_t index) {
  FragmentRecord record = fragment_record(index);
  return fragments_.get(index, [&] {
    Bytes out(super_.block_size);
    out.resize(decode_data(record.start, record.size, out));
    return out;
  });
}

}  // namespace operculum::squash
