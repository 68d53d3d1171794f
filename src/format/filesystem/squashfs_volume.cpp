#include "format/filesystem/squashfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/fields.h"
#include "format/filesystem/squashfs_form.h"

namespace operculum::squash {
namespace {

/// The next structure of a table.
template <typename S>
S take(MetaReader& reader) {
  return read_structure<S>(reader.take(size_on_disk<S>).data());
}

}  // namespace

Volume::Volume(SourcePtr image) : BlockReader(std::move(image)) {
  super_ = read_structure<Super>(read_exactly(*image_, 0, kSuperSize, "SquashFS superblock").data());
  if (super_.major != 4 || super_.minor != 0)
    throw Unsupported(fmt::format("SquashFS {}.{} (4.0 is read)", super_.major, super_.minor));
  codec_ = codec_of(super_);
  if (super_.block_size < 4096 || super_.block_size > (1 << 20) ||
      (super_.block_size & (super_.block_size - 1)) != 0)
    throw Malformed(
        fmt::format("SquashFS superblock: a block size of {} bytes is not possible", super_.block_size));
  block_size_ = super_.block_size;
}

std::size_t Volume::unpack(ByteView packed, ByteSpan out) const {
  return decode_block(codec_, packed, out);
}

Bytes Volume::codec_options() {
  if ((super_.flags & has_codec_options) == 0) return {};
  std::uint64_t next = 0;
  return *read_meta(kSuperSize, next);
}

// ---- metadata

MetaReader Volume::folder(const Inode& inode) {
  return meta_reader(checked_add(super_.folder_table, inode.start, "a folder's place"), inode.offset);
}

/// `count` records of a table that is reached through a list of its blocks' places.
Bytes Volume::table_record(std::uint64_t list, std::uint64_t index, std::size_t record) {
  std::uint64_t per_block = kMetaBlock / record;
  Bytes place =
      read_exactly(*meta_, checked_add(list, index / per_block * 8, "a table"), 8, "SquashFS table");
  MetaReader reader = meta_reader(load_little<std::uint64_t>(place.data()), (index % per_block) * record);
  return reader.take(record);
}

void Volume::read_ids() {
  for (std::uint32_t i = 0; i < super_.ids; ++i)
    ids_.push_back(load_little<std::uint32_t>(table_record(super_.id_table, i, 4).data()));
}

Inode Volume::inode(std::uint64_t ref, std::vector<std::uint32_t>* block_sizes) {
  MetaReader reader =
      meta_reader(checked_add(super_.inode_table, ref >> 16, "an inode's place"), ref & 0xFFFF);
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
  if (block_sizes != nullptr) read_block_words(n, reader, *block_sizes);
}

ExtendedAttributes Volume::attributes(std::uint32_t index) {
  ExtendedAttributes out;
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
    return meta_reader(checked_add(head.pairs, ref >> 16, "an attribute"), ref & 0xFFFF);
  };
  MetaReader reader = at(record.reference);
  for (std::uint32_t i = 0; i < record.count; ++i) {
    auto key = read_structure<AttributeKey>(reader.take(size_on_disk<AttributeKey>).data());
    std::uint16_t type = key.type;
    Bytes name = reader.take(key.size);
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

// ---- fragments

FragmentRecord Volume::fragment_record(std::uint32_t index) {
  if (index >= super_.fragments)
    throw Malformed(fmt::format("SquashFS: fragment {} is not one of {}", index, super_.fragments));
  constexpr std::size_t kRecord = size_on_disk<FragmentRecord>;
  return read_structure<FragmentRecord>(table_record(super_.fragment_table, index, kRecord).data());
}

}  // namespace operculum::squash
