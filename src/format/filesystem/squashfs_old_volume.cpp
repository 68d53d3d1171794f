#include "format/filesystem/squashfs_old_volume.h"

#include <fmt/format.h>

#include "base/checked.h"
#include "base/error.h"
#include "base/numbers.h"
#include "codec/block.h"

namespace operculum::squash_old {
namespace {

using squash::Inode;
using squash::MetaReader;
using squash::Type;

constexpr std::size_t kLzmaHead = 13, kLzmaProperties = 5;  // bytes of an .lzma header, and without the size

bool is_zlib(ByteView packed) {
  return packed.size() > 2 && (packed[0] & 15) == 8 && (packed[0] * 256 + packed[1]) % 31 == 0;
}

/// The size that an .lzma header states, if that can be what is at the front.
std::optional<std::uint64_t> lzma_size(ByteView packed, std::size_t most) {
  if (packed.size() <= kLzmaHead || packed[0] >= LzmaBlock::kProperties) return std::nullopt;
  std::uint64_t size = load_number(packed.data() + kLzmaProperties, 8, std::endian::little);
  return size <= most || size == UINT64_MAX ? std::optional(size) : std::nullopt;
}

}  // namespace

std::optional<Front> read_super(ByteView head) {
  if (head.size() < kSuperSize) return std::nullopt;
  for (std::endian order : {std::endian::little, std::endian::big}) {
    Front front{order, read_bit_structure<Super>(head.data(), order), {}};
    const Super& super = front.super;
    if (super.major < 1 || super.major > 3 || super.minor > 1) continue;
    bool first = super.major == 1 && super.block_size_1 >= 4096;
    if (!first && (super.block_log < 12 || super.block_log > 20 || super.block_size != 1U << super.block_log))
      continue;
    if (super.major == 3) {
      if (head.size() < kSuperSizes) return std::nullopt;
      front.places = read_bit_structure<WideSuper>(head.data() + kSuperSize, order);
    } else {
      front.places = {
          super.used, super.users, super.groups, super.inode_table, super.folder_table, super.fragment_table,
          0};
    }
    return front;
  }
  return std::nullopt;
}

OldVolume::OldVolume(SourcePtr image, const Front& front) : BlockReader(std::move(image)), front_(front) {
  if (front_.super.major == 1) throw Unsupported(fmt::format("SquashFS 1.{}", front_.super.minor));
  order_ = front_.order;
  block_size_ = static_cast<std::uint32_t>(front_.super.block_size);
  if ((front_.super.flags & kMetaMarked) != 0) ++meta_head_;
  read_owners();
}

void OldVolume::read_owners() {
  auto read = [&](std::vector<std::uint32_t>& into, std::uint64_t at, std::uint64_t count) {
    Bytes raw = read_up_to(*meta_, at, count * 4);
    for (std::size_t i = 0; i + 4 <= raw.size(); i += 4)
      into.push_back(static_cast<std::uint32_t>(load_number(raw.data() + i, 4, order_)));
  };
  read(users_, front_.places.users, front_.super.user_count);
  read(groups_, front_.places.groups, front_.super.group_count);
}

std::string_view OldVolume::packing() {
  Bytes front = read_up_to(*meta_, front_.places.inode_table, meta_head_ + 3);
  if (front.size() < meta_head_ + 3) return "zlib";  // as usual: what was cut off cannot tell
  if ((load_number(front.data(), 2, order_) & squash::kMetaStored) != 0) return "stored";
  return is_zlib(ByteView(front).subspan(meta_head_)) ? "zlib" : "lzma";
}

std::size_t OldVolume::unpack(ByteView packed, ByteSpan out) const {
  if (is_zlib(packed)) return decode_block(BlockCodec::zlib, packed, out);
  std::optional<std::uint64_t> size = lzma_size(packed, out.size());
  if (size && *size != UINT64_MAX) return decode_block(BlockCodec::lzma_alone, packed, out);
  if (size) return decode_lzma({packed[0], packed.subspan(kLzmaHead)}, out);
  if (packed.size() > kLzmaProperties && packed[0] != 0 && packed[0] < LzmaBlock::kProperties &&
      packed[kLzmaProperties] == 0)
    return decode_lzma({packed[0], packed.subspan(kLzmaProperties)}, out);
  return decode_lzma({LzmaBlock::kUsualProperties, packed}, out);
}

// ---- inodes

Inode OldVolume::inode(std::uint64_t ref, std::vector<std::uint32_t>* block_words) {
  MetaReader reader =
      meta_reader(checked_add(front_.places.inode_table, ref >> 16, "an inode's place"), ref & 0xFFFF);
  auto head = take<InodeHead>(reader);
  Inode n;
  n.type = static_cast<std::uint16_t>(head.type);
  n.mode = static_cast<std::uint16_t>(head.mode & 07777);
  n.uid = head.user < users_.size() ? users_[head.user] : 0;
  n.gid = head.group == kSameAsUser ? n.uid : head.group < groups_.size() ? groups_[head.group] : 0;
  n.time = static_cast<std::uint32_t>(front_.super.made);
  if (wide()) {
    auto more = take<InodeNumber>(reader);
    n.time = static_cast<std::uint32_t>(more.time);
    n.number = static_cast<std::uint32_t>(more.number);
  }
  switch (n.type) {
    case Type::folder:
      wide() ? take_folder<FolderInode3>(n, reader) : take_folder<FolderInode2>(n, reader);
      break;
    case Type::long_folder:
      wide() ? take_folder<LongFolderInode3>(n, reader) : take_folder<LongFolderInode2>(n, reader);
      break;
    case Type::file:
      wide() ? take_file<FileInode3>(n, reader) : take_file<FileInode2>(n, reader);
      break;
    case Type::long_file:
      if (!wide()) throw Malformed("SquashFS inode: version 2 has no long files");
      take_file<LongFileInode3>(n, reader);
      break;
    case Type::link:
      take_links(n, reader);
      n.size = take<LinkInode>(reader).size;
      n.target = as_text(reader.take(n.size));
      break;
    case Type::block_device:
    case Type::character_device:
      take_links(n, reader);
      n.device = static_cast<std::uint32_t>(take<DeviceInode>(reader).device);
      break;
    case Type::fifo:
    case Type::socket:
      take_links(n, reader);
      break;
    default:
      throw Malformed(fmt::format("SquashFS inode: there is no type {}", n.type));
  }
  if (block_words != nullptr && (n.type == Type::file || n.type == Type::long_file))
    read_block_words(n, reader, *block_words);
  return n;
}

void OldVolume::take_links(Inode& n, MetaReader& reader) const {
  if (wide()) n.links = static_cast<std::uint32_t>(take<Links>(reader).count);
}

template <typename Record>
void OldVolume::take_folder(Inode& n, MetaReader& reader) const {
  auto record = take<Record>(reader);
  n.size = record.size;
  n.offset = static_cast<std::uint32_t>(record.offset);
  n.start = record.start;
  if constexpr (requires { record.time; }) n.time = static_cast<std::uint32_t>(record.time);
}

template <typename Record>
void OldVolume::take_file(Inode& n, MetaReader& reader) const {
  auto record = take<Record>(reader);
  n.size = record.size;
  n.start = record.start;
  n.fragment = static_cast<std::uint32_t>(record.fragment);
  n.offset = static_cast<std::uint32_t>(record.offset);
  if constexpr (requires { record.time; }) n.time = static_cast<std::uint32_t>(record.time);
  if constexpr (requires { record.links; }) n.links = static_cast<std::uint32_t>(record.links);
}

// ---- folders

void OldVolume::rows(const Inode& folder, const std::function<void(Row&&)>& visitor) {
  std::uint64_t counted_more = wide() ? 3 : 0;  // for the folder itself and the one above, which are no rows
  if (folder.size <= counted_more) return;
  std::uint64_t left = folder.size - counted_more;
  MetaReader reader =
      meta_reader(checked_add(front_.places.folder_table, folder.start, "a folder's place"), folder.offset);
  auto took = [&](std::uint64_t count) { left -= std::min(left, count); };
  while (left > 0) {
    std::uint64_t count = 0, block = 0;
    if (wide()) {
      auto head = take<FolderHead3>(reader);
      count = head.count + 1;
      block = head.start;
      took(bit_structure_size<FolderHead3>());
    } else {
      auto head = take<FolderHead2>(reader);
      count = head.count + 1;
      block = head.start;
      took(bit_structure_size<FolderHead2>());
    }
    for (std::uint64_t i = 0; i < count; ++i) {
      auto row = take<FolderRow>(reader);
      std::size_t number_size = wide() ? kRowNumberSize : 0, length = row.size + 1;
      reader.take(number_size);
      std::string name(as_text(reader.take(length)));
      took(bit_structure_size<FolderRow>() + number_size + length);
      visitor({block << 16 | row.offset, static_cast<unsigned>(row.type), std::move(name)});
    }
  }
}

// ---- fragments

template <typename Record>
squash::FragmentRecord OldVolume::fragment_of(std::uint32_t index) {
  constexpr std::size_t kSize = bit_structure_size<Record>();
  const std::size_t place_size = wide() ? 8 : 4;
  constexpr std::uint64_t kABlock = squash::kMetaBlock / kSize;
  std::uint64_t at = checked_add(front_.places.fragment_table, index / kABlock * place_size, "a table");
  Bytes place = read_exactly(*meta_, at, place_size, "SquashFS table");
  MetaReader reader = meta_reader(load_number(place.data(), place_size, order_), index % kABlock * kSize);
  auto record = take<Record>(reader);
  return {record.start, static_cast<std::uint32_t>(record.size)};
}

squash::FragmentRecord OldVolume::fragment_record(std::uint32_t index) {
  if (index >= front_.super.fragments)
    throw Malformed(fmt::format("SquashFS: fragment {} is not one of {}", index, front_.super.fragments));
  return wide() ? fragment_of<FragmentRecord3>(index) : fragment_of<FragmentRecord2>(index);
}

}  // namespace operculum::squash_old
