#pragma once

#include <optional>

#include "base/cursor.h"

namespace operculum::tar {

constexpr std::size_t kBlock = 512;

/// One 512-byte header block: POSIX.1-1988 ustar, v7 and the GNU variant share its first 257 bytes. Fields
/// carry their specification names and are kept as stored; numbers are decoded.
struct Header {
  std::string_view name, linkname, uname, gname, prefix;
  std::uint64_t mode = 0, uid = 0, gid = 0, size = 0, chksum = 0, devmajor = 0, devminor = 0;
  std::int64_t mtime = 0;
  char typeflag = '\0';
  enum class Variant { v7, ustar, gnu } variant = Variant::v7;
  ByteView raw;  ///< the whole block

  /// Throws Malformed when a number is none or the checksum fits neither signed nor unsigned sums.
  static Header read(ByteView block, std::uint64_t offset);
};

/// Whether the block's checksum field fits its bytes; cheap, never throws.
bool checksum_fits(ByteView block);

/// All bytes zero: the end mark.
bool is_zero_block(ByteView block);

/// Octal digits with blanks or NULs around them, or base-256 when the first byte's high bit is set (GNU).
/// Nothing when it is neither.
std::optional<std::int64_t> parse_field(std::string_view field);

}  // namespace operculum::tar
