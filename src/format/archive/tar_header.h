#pragma once

#include <optional>

#include "base/structure.h"

namespace operculum::tar {

constexpr std::size_t kBlock = 512;

// A tar archive is entries one after another, each a header block and its data filled up to whole blocks of
// 512 bytes, and two blocks of zeros at the end: tapes read and write such blocks. Numbers are octal digits.
// What a header has no room for lies in entries of its own in front of it: pax records, or long names of the
// GNU variant.

/// A header block as it lies there (POSIX.1-1988, 10.1.1). The GNU variant has other things in the place of
/// `prefix`.
struct RawHeader {
  template <std::size_t Size>
  using Text = std::array<Byte, Size>;
  Text<100> name{};
  Text<8> mode{}, uid{}, gid{};
  Text<12> size{}, mtime{};
  Text<8> chksum{};
  Text<1> typeflag{};
  Text<100> linkname{};
  Text<8> magic{};  // with the version
  Text<32> uname{}, gname{};
  Text<8> devmajor{}, devminor{};
  Text<155> prefix{};
  Text<12> rest{};

  static constexpr auto layout = little_endian(
      field("name", &RawHeader::name), field("mode", &RawHeader::mode), field("uid", &RawHeader::uid),
      field("gid", &RawHeader::gid), field("size", &RawHeader::size), field("mtime", &RawHeader::mtime),
      field("chksum", &RawHeader::chksum), field("typeflag", &RawHeader::typeflag),
      field("linkname", &RawHeader::linkname), field("magic", &RawHeader::magic),
      field("uname", &RawHeader::uname), field("gname", &RawHeader::gname),
      field("devmajor", &RawHeader::devmajor), field("devminor", &RawHeader::devminor),
      field("prefix", &RawHeader::prefix), field("rest", &RawHeader::rest));

  /// The block, with its checksum worked out.
  Bytes block() const;
};
static_assert(size_on_disk<RawHeader> == kBlock);

/// What a header block says: POSIX.1-1988 ustar, v7 and the GNU variant share its first 257 bytes. Fields
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
