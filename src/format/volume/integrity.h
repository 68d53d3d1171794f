#pragma once

#include <optional>
#include <string>

#include "cipher/sealed_sectors.h"
#include "container/known_record.h"
#include "io/source.h"

namespace operculum::integrity {

// dm-integrity, after the Linux kernel's Documentation/admin-guide/device-mapper/dm-integrity.rst and
// drivers/md/dm-integrity.c: a superblock, a journal, and areas, each of which begins with the tags of the
// sectors that follow. Numbers are little-endian.

inline constexpr std::string_view kMark("integrt\0", 8);

/// Where data and tags lie.
struct Layout {
  unsigned version = 0;
  std::size_t tag_size = 0;  ///< bytes
  std::size_t block = 512;   ///< bytes that a tag is of
  std::uint64_t size = 0;    ///< bytes of data
  std::uint64_t area = 0;    ///< bytes of data in an area
  std::uint64_t tags = 0;    ///< bytes of tags in front of them
  std::uint64_t begin = 0;   ///< bytes, of the first area in the file
  bool dirty = false;        ///< tags were not up to date
  bool salted = false;
  Bytes salt;

  std::uint64_t data_at(std::uint64_t offset) const;  ///< where a byte of the data lies
  std::uint64_t tag_at(std::uint64_t offset) const;   ///< where the tag of the block with that byte lies
};

/// The superblock at `at`. Throws Malformed, Unsupported.
Layout read_layout(const Source& file, std::uint64_t at);

/// The checksum that the first blocks' tags are, of those with tags of that size: "crc32c", "sha256", ...;
/// nothing when none fits.
std::optional<std::string> find_checksum(const Source& file, const Layout& layout);

/// The data. Blocks whose tag is not that checksum throw Malformed when they are read; without one nothing is
/// compared.
SourcePtr make_data(SourcePtr file, const Layout& layout, const std::optional<std::string>& checksum);

/// The data decrypted, each block compared with its tag.
SourcePtr make_opened(SourcePtr file, const Layout& layout, std::shared_ptr<const SealedSectors> cipher,
                      std::uint64_t first_sector);

/// The superblock, at the begin of a file.
KnownRecord known_superblock();

}  // namespace operculum::integrity
