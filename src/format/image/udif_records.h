#pragma once

#include "base/structure.h"

namespace operculum::udif {

/// The last 512 bytes of an image, and of each of its segments. Places and lengths are in bytes.
struct Trailer {
  std::array<Byte, 4> signature{};
  std::uint32_t version = 0, header_size = 0;
  std::uint64_t running_data_fork_offset = 0;  ///< bytes of data in the segments before
  std::uint64_t data_fork_offset = 0, data_fork_length = 0, rsrc_fork_offset = 0, rsrc_fork_length = 0;
  std::uint32_t segment_number = 0, segment_count = 0;
  std::array<Byte, 16> segment_id{};
  std::uint64_t xml_offset = 0, xml_length = 0, sector_count = 0;
  static constexpr std::string_view mark = "koly";
  static constexpr std::size_t size = 512;
  static constexpr auto layout = big_endian(
      field("Signature", &Trailer::signature), field("Version", &Trailer::version),
      field("HeaderSize", &Trailer::header_size), from_byte<16>(),
      field("RunningDataForkOffset", &Trailer::running_data_fork_offset),
      field("DataForkOffset", &Trailer::data_fork_offset),
      field("DataForkLength", &Trailer::data_fork_length),
      field("RsrcForkOffset", &Trailer::rsrc_fork_offset),
      field("RsrcForkLength", &Trailer::rsrc_fork_length), field("SegmentNumber", &Trailer::segment_number),
      field("SegmentCount", &Trailer::segment_count), field("SegmentID", &Trailer::segment_id),
      from_byte<216>(), field("XMLOffset", &Trailer::xml_offset), field("XMLLength", &Trailer::xml_length),
      from_byte<492>(), field("SectorCount", &Trailer::sector_count));
};

/// In front of a part's chunks.
struct TableHead {
  std::array<Byte, 4> signature{};
  std::uint64_t sector_number = 0, sector_count = 0, data_offset = 0;
  std::uint32_t number_of_chunks = 0;
  static constexpr std::string_view mark = "mish";
  static constexpr auto layout =
      big_endian(field("Signature", &TableHead::signature), from_byte<8>(),
                 field("SectorNumber", &TableHead::sector_number),
                 field("SectorCount", &TableHead::sector_count), field("DataOffset", &TableHead::data_offset),
                 from_byte<200>(), field("NumberOfBlockChunks", &TableHead::number_of_chunks));
};

/// A row of a block map: sectors that are stored in one way.
struct Chunk {
  std::uint32_t kind = 0;
  std::uint64_t sector_number = 0, sector_count = 0, offset = 0, length = 0;
  static constexpr auto layout =
      big_endian(field("EntryType", &Chunk::kind), from_byte<8>(),
                 field("SectorNumber", &Chunk::sector_number), field("SectorCount", &Chunk::sector_count),
                 field("CompressedOffset", &Chunk::offset), field("CompressedLength", &Chunk::length));
};
/// How a chunk's sectors are stored.
enum Kind : std::uint32_t {
  zero_chunk = 0,
  raw_chunk = 1,
  ignore_chunk = 2,
  comment_chunk = 0x7FFFFFFE,
  adc_chunk = 0x80000004,
  zlib_chunk = 0x80000005,
  bzip2_chunk = 0x80000006,
  lzfse_chunk = 0x80000007,
  xz_chunk = 0x80000008,
  end_chunk = 0xFFFFFFFF,
};

}  // namespace operculum::udif
