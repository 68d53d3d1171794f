// The bytes of a file in btrfs: extents that lie as they are, packed ones of 128 KiB at most, ones kept in
// their item.
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "codec/block.h"
#include "format/filesystem/btrfs_volume.h"
#include "io/mapped_source.h"

namespace operculum::btrfs {
namespace {

constexpr std::uint64_t kLargestPacked = 128
                                         << 10;  // BTRFS_MAX_UNCOMPRESSED, and what is packed is not larger

/// Pieces of a page each, with their length in front; a length never lies across two pages.
std::size_t unpack_lzo(ByteView packed, ByteSpan out, std::uint32_t page) {
  LittleFields f(packed, "LZO in btrfs");
  std::size_t end = std::min<std::size_t>(f.u32(0), packed.size()), at = 4, done = 0;
  while (at + 4 <= end && done < out.size()) {
    if (page - at % page < 4) at = (at / page + 1) * page;
    std::size_t length = f.u32(at);
    std::size_t room = std::min<std::size_t>(out.size() - done, page);
    done += decode_block(BlockCodec::lzo, f.bytes(at + 4, length), out.subspan(done, room));
    at += 4 + length;
  }
  return done;
}

Bytes unpack_extent(ByteView packed, const FileExtent& extent, std::uint32_t page) {
  if (extent.unpacked_length > kLargestPacked)
    throw Malformed(fmt::format("btrfs extent: expected at most {} packed bytes, found {}", kLargestPacked,
                                extent.unpacked_length));
  Bytes out(static_cast<std::size_t>(extent.unpacked_length));
  std::size_t count = 0;
  switch (extent.compression) {
    case 1:
      count = decode_block(BlockCodec::zlib, packed, out);
      break;
    case 2:
      count = unpack_lzo(packed, out, page);
      break;
    default:
      count = decode_block(BlockCodec::zstd, packed, out);
  }
  std::fill(out.begin() + static_cast<std::ptrdiff_t>(count), out.end(),
            Byte{0});  // the end of the last page
  return out;
}

class File final : public MappedSource {
 public:
  File(const std::shared_ptr<const Volume>& volume, std::vector<FileExtent> extents, std::uint64_t size)
      : MappedSource(volume->logical(), size),
        volume_(volume),
        extents_(std::move(extents)),
        page_(volume->super().sectorsize) {
    for (const FileExtent& extent : extents_) check(extent);
  }

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    auto behind = std::upper_bound(extents_.begin(), extents_.end(), offset,
                                   [](std::uint64_t at, const FileExtent& one) { return at < one.offset; });
    std::uint64_t next = behind == extents_.end() ? size() : behind->offset;
    if (behind == extents_.begin()) return {MappedRun::From::zeros, next - offset};
    const FileExtent& extent = *(behind - 1);
    std::uint64_t within = offset - extent.offset;
    if (within >= extent.length) return {MappedRun::From::zeros, next - offset};
    std::uint64_t length = std::min(extent.length - within, next - offset);
    switch (extent.kind) {
      case FileExtent::Kind::hole:
        return {MappedRun::From::zeros, length};
      case FileExtent::Kind::plain:
        return {MappedRun::From::stored, length, extent.stored_at + extent.skip + within};
      default:
        return {MappedRun::From::packed, length, static_cast<std::uint64_t>(behind - 1 - extents_.begin()),
                extent.skip + within};
    }
  }

  Bytes unpack(std::uint64_t at) const override {
    const FileExtent& extent = extents_[static_cast<std::size_t>(at)];
    if (extent.kind == FileExtent::Kind::within)
      return extent.compression == 0 ? extent.inline_data : unpack_extent(extent.inline_data, extent, page_);
    Bytes packed = read_exactly(whole(), extent.stored_at, extent.stored_length, "btrfs extent");
    return unpack_extent(packed, extent, page_);
  }

 private:
  static void check(const FileExtent& extent) {
    if (extent.kind != FileExtent::Kind::plain && extent.kind != FileExtent::Kind::packed) return;
    bool packed = extent.kind == FileExtent::Kind::packed;
    if (packed && extent.stored_length > kLargestPacked)
      throw Malformed(fmt::format("btrfs extent: expected at most {} stored bytes, found {}", kLargestPacked,
                                  extent.stored_length));
    if (!packed && (extent.skip > extent.stored_length || extent.length > extent.stored_length - extent.skip))
      throw Malformed(fmt::format("btrfs extent at {}: {} bytes from {} on are more than its {}",
                                  extent.stored_at, extent.length, extent.skip, extent.stored_length));
    if (packed &&
        (extent.skip > extent.unpacked_length || extent.length > extent.unpacked_length - extent.skip))
      throw Malformed(fmt::format("btrfs extent at {}: {} bytes from {} on are more than its {}",
                                  extent.stored_at, extent.length, extent.skip, extent.unpacked_length));
  }

  std::shared_ptr<const Volume> volume_;  // whose checksums are compared
  std::vector<FileExtent> extents_;
  std::uint32_t page_;
};

}  // namespace

SourcePtr make_file(const std::shared_ptr<const Volume>& volume, std::vector<FileExtent> extents,
                    std::uint64_t size) {
  return std::make_shared<File>(volume, std::move(extents), size);
}

}  // namespace operculum::btrfs
