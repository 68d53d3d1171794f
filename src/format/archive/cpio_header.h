#pragma once

#include <optional>
#include <span>

#include "base/cursor.h"

namespace operculum::cpio {

// A cpio archive is entries one after another, each a header, a name that ends in a NUL, and data; the entry
// "TRAILER!!!" ends it. There are forms with numbers in digits and in binary words; those of SVR4 fill name
// and data up to multiples of four bytes.

/// The kinds of headers.
enum class Variant { newc, crc, odc, binary_little, binary_big };

/// What a kind of header looks like.
struct VariantInfo {
  std::string_view magic;
  Variant variant;
  std::size_t header_size;  ///< bytes
  std::size_t alignment;    ///< of name end and data end, from the header's start
};

constexpr std::string_view kTrailerName = "TRAILER!!!";
constexpr std::uint64_t kLongestName = 1 << 20;
constexpr std::uint64_t kBlock = 512;  // archives are usually filled up to a multiple of it

/// A header's numbers, under the names that they have in the specifications.
struct Header {
  std::uint64_t ino = 0, mode = 0, uid = 0, gid = 0, nlink = 0, mtime = 0, filesize = 0;
  std::uint64_t devmajor = 0, devminor = 0, rdevmajor = 0, rdevminor = 0, namesize = 0, check = 0;
};

/// The variant that bytes begin as; null when it is none.
const VariantInfo* variant_of(ByteView head);
const VariantInfo& info_of(Variant variant);

/// Throws Malformed.
Header read_header(ByteView block, std::uint64_t offset, const VariantInfo& info);

/// The header's bytes; digits above nine are capital letters unless `lower_case`. Throws Unsupported when a
/// number has no room in this variant.
Bytes header_bytes(const Header& header, const VariantInfo& info, bool lower_case);

std::uint64_t padding_to(std::uint64_t size, std::uint64_t alignment);

}  // namespace operculum::cpio
