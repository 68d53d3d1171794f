#include "format/filesystem/squashfs_blocks.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/numbers.h"
#include "codec/block.h"
#include "io/cached_source.h"

namespace operculum::squash {
namespace {

constexpr std::uint64_t kMostBlocks = 1 << 24;  // of one file: 2 TiB in blocks of the usual size
constexpr std::uint32_t kInFragment = 1;        // Block::tag

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

BlockReader::BlockReader(SourcePtr image) : image_(std::move(image)), meta_(make_cached(image_)) {}

BytesPtr BlockReader::read_meta(std::uint64_t at, std::uint64_t& next) {
  Bytes head = read_exactly(*meta_, at, meta_head_, "SquashFS metadata block");
  auto word = static_cast<std::uint16_t>(load_number(head.data(), 2, order_));
  std::uint64_t size = word & ~kMetaStored;
  if (size > kMetaBlock || size == 0)
    throw Malformed(fmt::format("SquashFS metadata block at offset {}: {} bytes are not possible", at, size));
  next = at + meta_head_ + size;
  return meta_blocks_.get(at, [&] {
    Bytes packed = read_exactly(*meta_, at + meta_head_, size, "SquashFS metadata block");
    if ((word & kMetaStored) != 0) return packed;
    Bytes out(kMetaBlock);
    out.resize(unpack(packed, out));
    return out;
  });
}

void BlockReader::read_block_words(const Inode& inode, MetaReader& reader,
                                   std::vector<std::uint32_t>& words) const {
  std::uint64_t count = inode.size / block_size_;
  if (inode.fragment == kNoFragment && inode.size % block_size_ != 0) ++count;
  if (count > kMostBlocks)
    throw Malformed(fmt::format("SquashFS file inode: {} bytes are more than any file here has", inode.size));
  while (count > 0) {  // piece by piece: a count without blocks behind it ends early
    auto part = static_cast<std::size_t>(std::min<std::uint64_t>(count, 2048));
    Bytes raw = reader.take(part * 4);
    for (std::size_t i = 0; i < part; ++i)
      words.push_back(static_cast<std::uint32_t>(load_number(raw.data() + i * 4, 4, order_)));
    count -= part;
  }
}

std::vector<Block> BlockReader::blocks(const Inode& inode, const std::vector<std::uint32_t>& sizes) const {
  std::vector<Block> blocks;
  std::uint64_t at = inode.start, done = 0;
  for (std::uint32_t size : sizes) {
    std::uint64_t unpacked = std::min<std::uint64_t>(block_size_, inode.size - done);
    blocks.push_back({done, unpacked, at, size, 0, size == 0});
    at += size & ~kDataStored;
    done += unpacked;
  }
  if (inode.fragment != kNoFragment && done < inode.size)
    blocks.push_back({done, inode.size - done, inode.offset, inode.fragment, kInFragment});
  return blocks;
}

void BlockReader::decode(const Block& block, ByteSpan out) {
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

std::size_t BlockReader::decode_data(std::uint64_t at, std::uint32_t word, ByteSpan out) const {
  std::uint32_t size = word & ~kDataStored;
  if (size > block_size_)
    throw Malformed(
        fmt::format("SquashFS data block at offset {}: {} packed bytes are not possible", at, size));
  thread_local Bytes packed;
  packed.resize(size);
  std::size_t got = image_->read_at(at, packed);
  if (got < size)
    throw CutShort(fmt::format(
        "SquashFS data block at offset {}: {} of {} bytes are there; the image is cut short", at, got, size));
  return (word & kDataStored) != 0 ? decode_block(BlockCodec::stored, packed, out) : unpack(packed, out);
}

BytesPtr BlockReader::fragment(std::uint32_t index) {
  FragmentRecord record = fragment_record(index);
  return fragments_.get(index, [&] {
    Bytes out(block_size_);
    out.resize(decode_data(record.start, record.size, out));
    return out;
  });
}

}  // namespace operculum::squash
