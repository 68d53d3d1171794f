// LZO files, as the compressor of LZO's own maker writes them (its file format, version 1.04): a header with
// a checksum, then blocks that each state their sizes and checksums, up to one of size 0. Several files may
// follow each other. Numbers are big-endian.
#include "codec/lzo_file.h"

#include <fmt/format.h>
#include <lzo/lzo1x.h>
#include <zlib.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/cursor.h"
#include "base/error.h"
#include "codec/blockwise_stream.h"
#include "codec/decoders.h"

namespace operculum {
namespace {

constexpr std::uint16_t kWithLevels = 0x0940;  // the version from which on headers have all fields
constexpr std::size_t kMostHead = 512, kMostBlock = 64 << 20;  // bytes

std::uint32_t adler_of(ByteView bytes) {
  return static_cast<std::uint32_t>(adler32(1, bytes.data(), static_cast<uInt>(bytes.size())));
}

void compare(std::uint32_t stored, std::uint32_t computed, std::string_view what) {
  if (sum_fits(computed, stored)) return;
  throw Malformed(
      fmt::format("LZO file: the checksum of {} differs (stored {:08x}, computed {:08x}); the data "
                  "is damaged",
                  what, stored, computed));
}

class LzoFileStream final : public BlockwiseStream {
 public:
  LzoFileStream(StreamPtr packed, const CodecOptions& options)
      : BlockwiseStream(std::move(packed)), note_(options.note) {}

 private:
  bool begin_file() {
    ByteView front = input_.ensure(kMostHead);
    if (files_ > 0 && !starts_with(front, kLzoFileMagic)) {
      if (!front.empty() && note_) note_("bytes follow the end of the packed data");
      return false;
    }
    head_ = read_lzo_file_head(front);
    input_.consume(head_.size);
    ++files_;
    return in_file_ = true;
  }

  bool next_block() override {
    if (!in_file_ && !begin_file()) return false;
    std::uint32_t plain_size = number();
    if (plain_size == 0) {
      in_file_ = false;
      return true;
    }
    std::uint32_t packed_size = number();
    constexpr std::uint64_t kMostRatio = 256;  // a byte more of a length stands for 255 bytes
    if (packed_size > plain_size || plain_size > kMostBlock || plain_size > packed_size * kMostRatio)
      throw Malformed(
          fmt::format("LZO file: a block of {} bytes packed to {} is not possible", plain_size, packed_size));
    auto stored_if = [&](std::uint32_t flag, bool wanted = true) {
      return wanted && (head_.flags & flag) != 0 ? std::optional(number()) : std::nullopt;
    };
    bool packed = packed_size < plain_size;  // else it is stored, and has one sum of each kind
    auto plain_adler = stored_if(LzoFileHead::adler_of_plain),
         plain_crc = stored_if(LzoFileHead::crc_of_plain);
    auto packed_adler = stored_if(LzoFileHead::adler_of_packed, packed);
    auto packed_crc = stored_if(LzoFileHead::crc_of_packed, packed);
    Bytes bytes = take(packed_size, "LZO file: the last block is cut short");
    if (packed_adler) compare(*packed_adler, adler_of(bytes), "a packed block");
    if (packed_crc) compare(*packed_crc, crc32(0, bytes), "a packed block");
    if (packed) {
      unpack(bytes, plain_size);
    } else {
      block_ = std::move(bytes);
    }
    if (plain_adler) compare(*plain_adler, adler_of(block_), "a block");
    if (plain_crc) compare(*plain_crc, crc32(0, block_), "a block");
    return true;
  }

  void unpack(ByteView packed, std::uint32_t plain_size) {
    block_.resize(plain_size);
    lzo_uint count = plain_size;
    int result = lzo1x_decompress_safe(packed.data(), packed.size(), block_.data(), &count, nullptr);
    if (result != LZO_E_OK || count != plain_size)
      throw Malformed(
          fmt::format("LZO file: a block of {} bytes does not decode; the data is damaged", packed.size()));
  }

  std::uint32_t number() {
    ByteView bytes = input_.ensure(4);
    if (bytes.size() < 4) throw CutShort("LZO file: cut short between two blocks");
    std::uint32_t value = Cursor(bytes, "LZO block").u32be();
    input_.consume(4);
    return value;
  }

  std::function<void(const std::string&)> note_;
  LzoFileHead head_;
  std::uint64_t files_ = 0;
  bool in_file_ = false;
};

}  // namespace

LzoFileHead read_lzo_file_head(ByteView bytes) {
  if (!starts_with(bytes, kLzoFileMagic)) throw Malformed("LZO file: the magic is missing");
  Cursor cursor(bytes, "LZO file header");
  cursor.skip(kLzoFileMagic.size());
  LzoFileHead head;
  std::uint16_t version = cursor.u16be();
  cursor.skip(2);  // the library's
  bool full = version >= kWithLevels;
  if (full) cursor.skip(2);  // the version that is needed
  unsigned method = cursor.u8();
  if (method < 1 || method > 3) throw Unsupported(fmt::format("LZO method {}", method));
  if (full) cursor.skip(1);  // the level
  head.flags = cursor.u32be();
  if ((head.flags & LzoFileHead::filtered) != 0) throw Unsupported("LZO files with a filter");
  cursor.skip(4);  // the mode
  std::uint64_t seconds = cursor.u32be();
  if (full) seconds |= std::uint64_t{cursor.u32be()} << 32;
  if (seconds != 0) head.modified = from_unix(static_cast<std::int64_t>(seconds));
  head.name = cursor.text(cursor.u8());
  ByteView summed = bytes.subspan(kLzoFileMagic.size(), cursor.position() - kLzoFileMagic.size());
  bool crc = (head.flags & LzoFileHead::crc_of_head) != 0;
  compare(cursor.u32be(), crc ? crc32(0, summed) : adler_of(summed), "the header");
  if ((head.flags & LzoFileHead::extra_field) != 0) {
    cursor.skip(cursor.u32be());
    cursor.skip(4);  // its checksum
  }
  head.size = cursor.position();
  return head;
}

StreamPtr open_lzo_file(StreamPtr packed, const CodecOptions& options) {
  return std::make_unique<LzoFileStream>(std::move(packed), options);
}

}  // namespace operculum
