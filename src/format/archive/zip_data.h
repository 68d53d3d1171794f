#pragma once

#include "codec/codec.h"
#include "container/container.h"
#include "format/archive/zip_records.h"

namespace operculum::zip {

/// All that reading an entry's data takes; does not refer to the entry, which may be gone.
struct EntryData {
  SourcePtr stored;
  const Codec* codec;
  Expected expected;
  bool encrypted, complete;  ///< complete: all stored bytes are there
  std::uint64_t stored_size;
  std::uint16_t method, flags;  ///< of its headers (4.4.5, 4.4.4)
  std::optional<ExtraFields::Aes> aes;
  std::string password;

  /// Whether it lies there as it is.
  bool direct() const;
  /// The compressed bytes, without encryption.
  StreamPtr open_packed() const;
  /// The bytes themselves, compared with what is expected. Throws Malformed, here or when it is read.
  StreamPtr open() const;
};

/// Data as the content of an entry of `container`, which it keeps alive.
ContentPtr make_entry_content(EntryData data, ContainerPtr container);

}  // namespace operculum::zip
