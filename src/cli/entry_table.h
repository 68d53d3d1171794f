#pragma once

#include <string>
#include <vector>

#include "cli/session.h"
#include "task/list.h"

namespace operculum::cli {

/// What a listing's table shows beside what it must.
struct TableForm {
  bool human = false;  ///< sizes with units
  bool kinds = false;  ///< what each file is by content
  bool full = false;   ///< every column, with mode, owner and seconds
};

/// The table of `list`. Its first rows are kept until it is clear which columns say something: in a listing
/// of some thousand entries a column that is the same everywhere is left out, so that paths have room.
class EntryTable {
 public:
  EntryTable(Session& session, TableForm form) : session_(session), form_(form) {}

  void add(const Found& found);
  void finish();  ///< writes what was kept

 private:
  static constexpr std::size_t kKept = 4096;  ///< rows
  static constexpr std::size_t kKeptBytes = 4 << 20;
  enum Column { size, stored, method, time, flags, mode, owner, kind, path, column_count };
  using Row = std::array<std::string, column_count>;

  Row row_of(const Found& found) const;
  void choose_columns(bool complete);
  void write(const Row& row);
  void write_kept(bool complete);

  Session& session_;
  TableForm form_;
  std::vector<Row> kept_;
  std::size_t kept_bytes_ = 0;  // of their paths
  bool chosen_ = false;
  std::array<bool, column_count> shown_{};
  std::array<std::size_t, column_count> widths_{};
};

}  // namespace operculum::cli
