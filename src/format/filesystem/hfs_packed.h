#pragma once

#include "io/stream.h"

namespace operculum::hfs {

/// How a file packed by the file system is kept: the attribute "com.apple.decmpfs".
struct Packing {
  std::uint32_t type = 0;
  std::uint64_t size = 0;  ///< unpacked, bytes
  Bytes kept;              ///< what follows the header in the attribute
  bool in_fork() const;
  std::string_view method() const;
};
/// Throws Malformed unless it is such an attribute.
Packing read_packing(ByteView attribute);

/// The unpacked file; `fork` is its resource fork, for kinds that use it. Throws Unsupported and Malformed.
ContentPtr open_packed(const Packing& packing, const SourcePtr& fork);

}  // namespace operculum::hfs
