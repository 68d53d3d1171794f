#pragma once

#include <optional>
#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "format/filesystem/fat_records.h"

namespace operculum::fat {

/// A file or folder as its rows tell it.
struct FolderItem {
  Row row;
  std::optional<std::string> long_name;
  std::uint64_t first_at = 0, at = 0;  ///< where its rows begin in the folder, and where the last one lies
  bool deleted = false;

  std::uint32_t cluster(unsigned bits) const { return row.cluster(bits); }
  std::string raw_name() const;
};

/// Goes through the rows of a folder, in order.
class FolderReader {
 public:
  /// What `raw`, a row that lies `at` bytes into the folder, ends; nothing for parts of long names, labels
  /// and the folder itself and the one above.
  std::optional<FolderItem> take(ByteView raw, std::uint64_t at);

 private:
  void add_long(const LongRow& row, std::uint64_t at);
  std::optional<std::string> take_long(ByteView short_name);
  void forget() {
    units_.clear();
    expected_ = kNone;
  }

  static constexpr unsigned kNone = 99;
  std::string units_;
  std::uint8_t sum_ = 0;
  unsigned expected_ = kNone;
  std::uint64_t first_at_ = 0;
};

/// "CRAB    PNG" as a person reads it, in an encoding; two bits of `cases` tell which halves were typed in
/// small letters.
std::string short_name_text(const std::string& raw, std::uint8_t cases, bool deleted,
                            const std::string& encoding);

/// The names in a folder: none may be there twice, however its letters are written.
class TakenNames {
 public:
  void add(const std::string& name, const std::string& short_name);
  /// The rows of a new name: those of the long one, where it needs one, and `row` with a short name of its
  /// own. Throws Unsupported for names that FAT cannot have, and those that are taken.
  Bytes rows_of(const std::string& name, Row row);

 private:
  std::string numbered(std::string_view name);

  std::unordered_map<std::string, std::string> names_;  // as they are written, by small letters
  std::unordered_set<std::string> short_names_;
  std::unordered_map<std::string, std::size_t> next_number_;  // by what is in front of it
};

}  // namespace operculum::fat
