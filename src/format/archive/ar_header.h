#pragma once

#include "base/structure.h"

namespace operculum::ar {

// An ar archive is a magic and then members, each a header of text and its data, filled up to an even size.
// Names of more than 15 or 16 characters lie elsewhere: in the member "//" (GNU, System V), or in front of
// the data (BSD).

constexpr std::string_view kMagic = "!<arch>\n";
constexpr std::string_view kThinMagic = "!<thin>\n";
constexpr std::string_view kHeaderEnd = "`\n";
constexpr Byte kFilling = '\n';

/// A member's header as it lies there (ar(5)): text, filled up with blanks.
struct RawHeader {
  template <std::size_t Size>
  using Text = std::array<Byte, Size>;
  Text<16> ar_name{};
  Text<12> ar_date{};
  Text<6> ar_uid{}, ar_gid{};
  Text<8> ar_mode{};
  Text<10> ar_size{};
  Text<2> ar_fmag{};

  static constexpr auto layout =
      little_endian(field("ar_name", &RawHeader::ar_name), field("ar_date", &RawHeader::ar_date),
                    field("ar_uid", &RawHeader::ar_uid), field("ar_gid", &RawHeader::ar_gid),
                    field("ar_mode", &RawHeader::ar_mode), field("ar_size", &RawHeader::ar_size),
                    field("ar_fmag", &RawHeader::ar_fmag));
};
constexpr std::size_t kHeaderSize = size_on_disk<RawHeader>;
static_assert(kHeaderSize == 60);

/// What a header says.
struct Header {
  std::string name;  ///< without the blanks behind it
  std::uint64_t date = 0, uid = 0, gid = 0, mode = 0, size = 0;

  /// Throws Malformed.
  static Header read(ByteView block, std::uint64_t offset);
};

}  // namespace operculum::ar
