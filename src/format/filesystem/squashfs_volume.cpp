#include "format/filesystem/squashfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/fields.h"
#include "io/cached_source.h"

namespace operculum::squash {
namespace {

constexpr std::uint64_t kMostBlocks = 1 << 24;  // of one file: 2 TiB in blocks of the usual size
constexpr std::uint64_t kMetaBlock = 8192, kNone = ~std::uint64_t{0};
constexpr std::uint32_t kStoredBit = 1U << 24;
constexpr std::uint32_t kInFragment = 1;  // Block::tag

struct Method {
  std::uint16_t number;
  BlockCodec codec;
};
constexpr Method kMethods[] = {{1, BlockCodec::zlib}, {2, BlockCodec::lzma_alone}, {3, BlockCodec::lzo},
                               {4, BlockCodec::xz},   {5, BlockCodec::lz4},        {6, BlockCodec::zstd}};

Super read_super(ByteView raw) {
  LittleFields f(raw, "SquashFS superblock");
  Super s;
  s.inodes = f.u32(4);
  s.made = f.u32(8);
  s.block_size = f.u32(12);
  s.fragments = f.u32(16);
  s.method = f.u16(20);
  s.ids = f.u16(26);
  s.major = f.u16(28);
  s.minor = f.u16(30);
  s.root = f.u64(32);
  s.bytes_used = f.u64(40);
  s.id_table = f.u64(48);
  s.attribute_table = f.u64(56);
  s.inode_table = f.u64(64);
  s.folder_table = f.u64(72);
  s.fragment_table = f.u64(80);
  return s;
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
  super_ = read_super(read_exactly(*image_, 0, kSuperSize, "SquashFS superblock"));
  if (super_.major != 4 || super_.minor != 0)
    throw Unsupported(fmt::format("SquashFS {}.{} (4.0 is read)", super_.major, super_.minor));
  auto method = std::find_if(std::begin(kMethods), std::end(kMethods),
                             [&](const Method& one) { return one.number == super_.method; });
  if (method == std::end(kMethods))
    throw Unsupported(fmt::format("SquashFS compression number {}", super_.method));
  codec_ = method->codec;
  if (super_.block_size < 4096 || super_.block_size > (1 << 20) ||
      (super_.block_size & (super_.block_size - 1)) != 0)
    throw Malformed(
        fmt::format("SquashFS superblock: a block size of {} bytes is not possible", super_.block_size));
}

// ---- metadata

MetaReader Volume::folder(const Inode& inode) {
  return {read_block_, checked_add(super_.folder_table, inode.start, "a folder's place"), inode.offset};
}

BytesPtr Volume::read_meta(std::uint64_t at, std::uint64_t& next) {
  Bytes head = read_exactly(*meta_, at, 2, "SquashFS metadata block");
  std::uint16_t word = load_little<std::uint16_t>(head.data());
  std::uint64_t size = word & 0x7FFF;
  if (size > kMetaBlock || size == 0)
    throw Malformed(fmt::format("SquashFS metadata block at offset {}: {} bytes are not possible", at, size));
  next = at + 2 + size;
  return meta_blocks_.get(at, [&] {
    Bytes packed = read_exactly(*meta_, at + 2, size, "SquashFS metadata block");
    if ((word & 0x8000) != 0) return packed;
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
  Bytes head = reader.take(16);
  LittleFields h(head, "SquashFS inode");
  Inode n;
  n.type = h.u16(0);
  n.mode = h.u16(2) & 07777;
  n.uid = id(h.u16(4));
  n.gid = id(h.u16(6));
  n.time = h.u32(8);
  n.number = h.u32(12);
  auto more = [&](std::size_t count) { return reader.take(count); };
  switch (n.type) {
    case Type::folder: {
      Bytes raw = more(16);
      LittleFields f(raw, "SquashFS folder inode");
      n.start = f.u32(0);
      n.links = f.u32(4);
      n.size = f.u16(8);
      n.offset = f.u16(10);
      break;
    }
    case Type::long_folder: {
      Bytes raw = more(24);
      LittleFields f(raw, "SquashFS folder inode");
      n.links = f.u32(0);
      n.size = f.u32(4);
      n.start = f.u32(8);
      n.offset = f.u16(18);
      n.attributes = f.u32(20);
      break;
    }
    case Type::file:
    case Type::long_file:
      read_file(n, reader, block_sizes);
      break;
    case Type::link:
    case Type::long_link: {
      Bytes raw = more(8);
      LittleFields f(raw, "SquashFS link inode");
      n.links = f.u32(0);
      n.size = f.u32(4);
      if (n.size > 65536)
        throw Malformed(fmt::format("SquashFS: a link's target of {} bytes is not possible", n.size));
      Bytes target = more(static_cast<std::size_t>(n.size));
      n.target = as_text(target);
      if (n.type == Type::long_link) n.attributes = load_little<std::uint32_t>(more(4).data());
      break;
    }
    case Type::block_device:
    case Type::character_device:
    case Type::long_block_device:
    case Type::long_character_device: {
      bool is_long = n.type >= Type::long_block_device;
      Bytes raw = more(is_long ? 12 : 8);
      LittleFields f(raw, "SquashFS device inode");
      n.links = f.u32(0);
      n.device = f.u32(4);
      if (is_long) n.attributes = f.u32(8);
      break;
    }
    case Type::fifo:
    case Type::socket:
      n.links = load_little<std::uint32_t>(more(4).data());
      break;
    case Type::long_fifo:
    case Type::long_socket: {
      Bytes raw = more(8);
      n.links = load_little<std::uint32_t>(raw.data());
      n.attributes = load_little<std::uint32_t>(raw.data() + 4);
      break;
    }
    default:
      throw Malformed(fmt::format("SquashFS inode: there is no type {}", n.type));
  }
  return n;
}

void Volume::read_file(Inode& n, MetaReader& reader, std::vector<std::uint32_t>* block_sizes) const {
  if (n.type == Type::file) {
    Bytes raw = reader.take(16);
    LittleFields f(raw, "SquashFS file inode");
    n.start = f.u32(0);
    n.fragment = f.u32(4);
    n.offset = f.u32(8);
    n.size = f.u32(12);
  } else {
    Bytes raw = reader.take(40);
    LittleFields f(raw, "SquashFS file inode");
    n.start = f.u64(0);
    n.size = f.u64(8);
    n.sparse = f.u64(16);
    n.links = f.u32(24);
    n.fragment = f.u32(28);
    n.offset = f.u32(32);
    n.attributes = f.u32(36);
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
  if (super_.attribute_table == kNone) return out;
  Bytes head = read_exactly(*meta_, super_.attribute_table, 16, "SquashFS attribute table");
  std::uint64_t pairs = load_little<std::uint64_t>(head.data());
  if (index >= load_little<std::uint32_t>(head.data() + 8))
    throw Malformed("SquashFS: an attribute number is out of range");
  Bytes record = table_record(super_.attribute_table + 16, index, 16);
  LittleFields r(record, "SquashFS attribute record");
  auto at = [&](std::uint64_t ref) {
    return MetaReader(read_block_, checked_add(pairs, ref >> 16, "an attribute"), ref & 0xFFFF);
  };
  MetaReader reader = at(r.u64(0));
  static constexpr std::string_view kPrefixes[] = {"user.", "trusted.", "security."};
  for (std::uint32_t i = 0; i < r.u32(8); ++i) {
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
    if ((type & 0xFF) < std::size(kPrefixes))
      out.emplace_back(std::string(kPrefixes[type & 0xFF]) + std::string(as_text(name)), as_text(value));
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
    at += size & ~kStoredBit;
    done += unpacked;
  }
  if (inode.fragment != kNoFragment && done < inode.size)
    blocks.push_back({done, inode.size - done, inode.offset, inode.fragment, kInFragment});
  return blocks;
}

void Volume::decode(const Block& block, ByteSpan out) {
  if (block.tag == kInFragment) {
    BytesPtr fragment = read_fragment(static_cast<std::uint32_t>(block.stored_size));
    if (block.stored_offset > fragment->size() || fragment->size() - block.stored_offset < out.size())
      throw Malformed("SquashFS: a file's end is not within its fragment");
    std::copy_n(fragment->begin() + static_cast<std::ptrdiff_t>(block.stored_offset), out.size(),
                out.begin());
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
  std::uint32_t size = word & ~kStoredBit;
  if (size > super_.block_size)
    throw Malformed(
        fmt::format("SquashFS data block at offset {}: {} packed bytes are not possible", at, size));
  thread_local Bytes packed;
  packed.resize(size);
  std::size_t got = image_->read_at(at, packed);
  if (got < size)
    throw CutShort(fmt::format(
        "SquashFS data block at offset {}: {} of {} bytes are there; the image is cut short", at, got, size));
  return decode_block((word & kStoredBit) != 0 ? BlockCodec::stored : codec_, packed, out);
}

BytesPtr Volume::read_fragment(std::uint32_t index) {
  if (index >= super_.fragments)
    throw Malformed(fmt::format("SquashFS: fragment {} is not one of {}", index, super_.fragments));
  return fragments_.get(index, [&] {
    Bytes record = table_record(super_.fragment_table, index, 16);
    LittleFields f(record, "SquashFS fragment record");
    Bytes out(super_.block_size);
    out.resize(decode_data(f.u64(0), f.u32(8), out));
    return out;
  });
}

}  // namespace operculum::squash
