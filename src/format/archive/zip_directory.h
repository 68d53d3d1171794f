#pragma once

#include "container/format.h"
#include "format/archive/zip_records.h"

namespace operculum::zip {

/// What the index of a ZIP file says, or what could be recovered without it.
struct Directory {
  std::vector<Entry> entries;  ///< offset: of the local header in the joined bytes
  std::string comment;
  std::uint64_t prefix = 0;  ///< bytes in front of the archive that its offsets do not count
  std::uint64_t suffix = 0;  ///< bytes behind it
  bool zip64 = false;
};

/// The end record, by a search backwards from the end; nothing when there is none. `before`: look only in
/// front of it.
std::optional<EndRecord> find_end(const Source& source, std::uint64_t before = UINT64_MAX);

/// Where the central directory lies, checked: the end record's own offset, or, when bytes were put in front
/// of the archive afterwards, the offset that follows from its size. Nothing when neither has a central
/// header.
std::optional<std::uint64_t> locate_directory(const Source& source, const EndRecord& end);

/// Reads the central directory at `at`. Damage within it ends the list with a finding. `volume_starts` holds
/// where each volume of a split set begins in the joined bytes; `out.prefix` shifts all offsets.
void read_directory(const Source& source, const EndRecord& end, std::uint64_t at,
                    const std::vector<std::uint64_t>& volume_starts, OpenContext& context,
                    Container& findings, Directory& out);

/// Finds entries by their local headers when the directory cannot be used; sizes that only a data descriptor
/// states are found by looking for it.
void recover_entries(const Source& source, OpenContext& context, Container& findings, Directory& out);

/// A name as UTF-8: the flag or the Unicode field decide, else `names_in`, else CP437 (APPNOTE D.1).
std::string decode_name(std::string_view raw, bool utf8, const std::string& names_in);

/// Fills in what central and local headers share.
void describe(Entry& entry, std::uint16_t flags, std::uint16_t method, const ExtraFields& extra,
              std::uint16_t date, std::uint16_t time);

}  // namespace operculum::zip
