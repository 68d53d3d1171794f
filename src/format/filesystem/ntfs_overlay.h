#pragma once

#include "format/filesystem/ntfs_volume.h"

namespace operculum::ntfs {

/// The named stream in which a file's packed bytes lie.
constexpr std::string_view kOverlayStream = "WofCompressedData";

/// How the system's overlay (the Windows Overlay Filter) holds a file's bytes.
struct Overlay {
  std::uint32_t provider = 0;   ///< 1: an imaging archive elsewhere, 2: the file itself
  std::uint32_t algorithm = 0;  ///< of the file itself: 0 XPRESS 4K, 1 LZX 32K, 2 XPRESS 8K, 3 XPRESS 16K
};

/// What the reparse point of a file says; nothing when the overlay does not hold it.
std::optional<Overlay> overlay_of(const Record& record);

/// "xpress", "lzx", or "overlay" for what is none of them.
std::string_view method_of(const Overlay& overlay);

/// The unpacked bytes. Throws Unsupported for bytes that lie elsewhere, Malformed.
ContentPtr overlay_content(const Volume& volume, const Record& record, const Overlay& overlay);

}  // namespace operculum::ntfs
