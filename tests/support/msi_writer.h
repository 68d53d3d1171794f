#pragma once

#include <map>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

struct MsiColumn {
  std::string name;
  enum class Kind { text, number16, number32, stream } kind = Kind::text;
  bool key = false;
};

/// A text, a number, or null; a stream's value is 1 where it is there.
using MsiValue = std::variant<std::monostate, std::string, std::int32_t>;

struct MsiTable {
  std::string name;
  std::vector<MsiColumn> columns;
  std::vector<std::vector<MsiValue>> rows;
};

struct MsiContents {
  std::vector<MsiTable> tables;
  std::map<std::string, Bytes> streams;  ///< by name in clear
  unsigned word_count = 2;               ///< of the summary: 2 says that files are in cabinets
  unsigned code_page = 1252;
  bool wide_references = false;  ///< three bytes for the number of a string
};

Bytes make_msi(const MsiContents& contents);

/// A package that puts `files` (path below the program folder to data) on a machine from one cabinet within
/// it, with an autostart entry, a service, a shortcut, and a script that is run at the end.
MsiContents sample_msi(const std::map<std::string, Bytes>& files, const Bytes& cabinet,
                       const std::string& cabinet_name);

}  // namespace operculum::test
