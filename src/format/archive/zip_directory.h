#pragma once

#include "container/format.h"
#include "format/archive/zip_records.h"
#include "io/input_buffer.h"

namespace operculum::zip {

/// Where the last mark of an end record begins, at `from` or in front of it; npos where none does.
std::size_t last_end_mark(std::string_view text, std::size_t from);

/// The end record, by a search backwards from the end; nothing when there is none. `before`: look only in
/// front of it.
std::optional<EndRecord> find_end(const Source& source, std::uint64_t before = UINT64_MAX);

/// Where the central directory lies, checked: the end record's own offset, or, when bytes were put in front
/// of the archive afterwards, the offset that follows from its size. Nothing when neither has a central
/// header.
std::optional<std::uint64_t> locate_directory(const Source& source, const EndRecord& end);

/// Where a central directory lies and what its offsets count from.
struct DirectoryPlace {
  EndRecord end;
  std::uint64_t at = 0;                      ///< of the first central header
  std::uint64_t prefix = 0;                  ///< bytes in front of the archive that its offsets do not count
  std::vector<std::uint64_t> volume_starts;  ///< of a split set, in the joined bytes
};

/// What an entry's central header tells beside what Entry has.
struct LocalPlace {
  std::uint64_t header_at = 0;  ///< of its local header, in the archive's bytes
  std::uint16_t method = 0;     ///< of its data (4.4.5), also where AES encryption is named in its place
};

/// Reads the central directory, entry by entry. Damage within it ends it with a finding.
class DirectoryReader {
 public:
  DirectoryReader(SourcePtr source, const DirectoryPlace& place, const OpenContext& context,
                  Container& findings, Detail detail = Detail::all);

  /// Fills in the next entry, whatever was in it; false at the end.
  bool next(Entry& entry);

  const LocalPlace& place() const { return local_; }  ///< of the last entry; with Detail::all

  std::uint64_t front() const { return front_; }  ///< the smallest offset of a local header so far

 private:
  bool take_plain(Entry& entry, ByteView raw);
  void fill(Entry& entry, CentralHeader& header);
  void fill(Entry& entry, const CentralHeader& header, const ExtraFields& extra);
  void fill_path(Entry& entry, const CentralHeader& header, const ExtraFields& extra) const;
  static void finish_path(Entry& entry, std::uint16_t version_made_by);
  void tell_end();

  const DirectoryPlace& directory_;
  const OpenContext& context_;
  Container& findings_;
  Detail detail_;
  InputBuffer input_;
  LocalPlace local_;
  std::uint64_t count_ = 0, broken_fields_ = 0, front_;
};

/// Entries, and where each of them lies.
struct Recovered {
  std::vector<Entry> entries;
  std::vector<LocalPlace> places;
};

/// Finds entries by their local headers when the directory cannot be used; sizes that only a data descriptor
/// states are found by looking for it.
Recovered recover_entries(const SourcePtr& source, const OpenContext& context, Container& findings);

/// A name as UTF-8: the flag or the Unicode field decide, else `names_in`, else CP437 (APPNOTE D.1).
std::string decode_name(std::string_view raw, bool utf8, const std::string& names_in);

/// Fills in what central and local headers share; returns the method of the data.
std::uint16_t describe(Entry& entry, std::uint16_t flags, std::uint16_t method, const ExtraFields& extra,
                       std::uint16_t date, std::uint16_t time);

}  // namespace operculum::zip
