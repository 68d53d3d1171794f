#pragma once

#include "cipher/zip_aes.h"
#include "container/rewrite.h"
#include "format/archive/zip_records.h"

namespace operculum::zip {

/// How an entry's data is made.
struct DataForm {
  std::uint16_t method = 0;  ///< of the compression, also where encryption hides it
  std::uint16_t flags = 0;   ///< general purpose bits that belong to it
  PackSettings settings;
  Bytes lzma_version;  ///< 2 bytes in front of LZMA data (5.8.8); empty: ours
  std::optional<ZipAes> aes;
  std::string password;    ///< empty: not encrypted
  std::uint16_t time = 0;  ///< of the header: with a data descriptor the traditional cipher's check byte
};

/// Packs and encrypts; the bytes are the entry's data as it will lie in the archive. Throws Unsupported for
/// methods without an encoder, and what the content throws.
PackedContent pack_data(const Content& content, const DataForm& form, SpoolBudget& spool);

/// Bits 1 and 2 of the general purpose flag tell of deflate's level, bit 1 of LZMA's end mark (4.4.4): those
/// of `settings`.
std::uint16_t method_flags(std::uint16_t method, const PackSettings& settings);

/// The version that is needed to read a method (4.4.3.2).
std::uint16_t version_for(std::uint16_t method, bool encrypted);

}  // namespace operculum::zip
