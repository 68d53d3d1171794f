#pragma once

#include <optional>
#include <string_view>

#include "base/bytes.h"
#include "io/source.h"

namespace operculum {

/// Bytes that the header of a block with codes of its own takes at most.
constexpr std::size_t kDeflateHeadSize = 576;

/// Finds where raw deflate data may begin (RFC 1951): its first block has codes of its own (section 3.2.7),
/// and the lengths that it states make complete codes. Blocks of the other kinds state too little to be told
/// from chance.
class DeflateFronts {
 public:
  /// Of so many bytes that look packed every place is looked at; behind them only those that follow a byte of
  /// 0x00 or 0xff, a header of zlib, or where a search begins.
  explicit DeflateFronts(std::uint64_t every_place = 8 << 20) : every_place_(every_place) {}

  /// The first such place from `at` on, or `end`. Headers that do not end within `bytes` are passed over, and
  /// so may be data of less than 600 bytes where what is around it does not look packed.
  std::size_t next(ByteView bytes, std::size_t at, std::size_t end);

 private:
  std::uint64_t every_place_;
};

/// How long packed data is, and what comes out of it; in bytes.
struct PackedExtent {
  std::uint64_t packed = 0, plain = 0;
};

/// Decodes what begins at `at` to its end, and compares the checksums that there are. `codec` is "deflate",
/// "zlib", or "gzip": all members that follow each other. Nothing where it is damaged, does not end by `end`,
/// or makes more of its bytes than usual data does. `may_read` is what may be read in vain, in packed bytes:
/// what was goes off.
std::optional<PackedExtent> deflate_extent(const SourcePtr& bytes, std::uint64_t at, std::uint64_t end,
                                           std::string_view codec, std::uint64_t& may_read);

}  // namespace operculum
