#pragma once

#include <memory>
#include <unordered_map>
#include <vector>

#include "format/package/wim_records.h"
#include "io/stream.h"

namespace operculum::wim {

/// How the chunks of a resource are packed.
enum class Packing { none, xpress, lzx, lzms };

/// Where bytes lie in an archive and how: a resource header of the format.
struct Resource {
  std::uint64_t offset = 0, stored = 0, size = 0;  ///< bytes; stored and unpacked
  bool metadata = false, packed = false, solid = false, unused = false;
};

/// What an archive's header tells.
struct Header {
  std::uint32_t flags = 0, chunk = 0, images = 0;
  std::uint16_t part = 1, parts = 1;
  Bytes guid;
  Resource lookup, xml;
  Packing codec = Packing::none;
};

/// Throws Malformed.
Header read_header(const Source& bytes);

/// Some content of the archive, known by its hash.
struct Blob {
  Resource resource;
  std::uint16_t part = 1;  ///< of the split set
  Bytes hash;              ///< SHA-1, 20 bytes
};

/// The rows of a part's lookup table. Throws Malformed.
std::vector<Blob> read_lookup(const Source& bytes, const Header& header);

/// "stored", "xpress", "lzx" or "lzms".
std::string_view name_of(Packing codec);

/// The bytes of a resource that is not part of a solid one. Throws Malformed, and Unsupported for LZMS.
ContentPtr open_resource(const SourcePtr& bytes, const Resource& resource, Packing codec,
                         std::uint32_t chunk);

/// The unpacked bytes of a solid resource, which holds several blobs one after another.
ContentPtr open_solid(const SourcePtr& bytes, const Resource& resource);

}  // namespace operculum::wim
