#pragma once

#include <map>
#include <mutex>
#include <optional>

#include "format/archive/cfb_file.h"

namespace operculum::msi {

/// A column of a table.
struct Column {
  std::string name;
  unsigned type = 0;      ///< as the column table has it
  std::size_t width = 2;  ///< bytes of a value

  bool is_key() const { return (type & 0x2000) != 0; }
  bool is_stream() const { return (type & 0x0FFF) == 0x0900; }  ///< each value is a stream of its own
  bool is_text() const { return (type & 0x0800) != 0 && !is_stream(); }
};

/// The strings of a database, by number.
class StringPool {
 public:
  StringPool() = default;
  /// Throws Malformed when the pool contradicts itself.
  StringPool(ByteView index, ByteView data);
  std::string_view text(std::size_t number) const;  ///< UTF-8; empty for numbers that do not exist
  std::size_t reference_width() const { return wide_ ? 3 : 2; }  ///< bytes of a string's number in a table

 private:
  bool wide_ = false;
  std::string all_;
  std::vector<std::pair<std::size_t, std::size_t>> places_;  // offset and length in all_
};

/// A table, decoded value by value: what lies in the file is kept column by column.
class Table {
 public:
  Table(std::string name, std::vector<Column> columns, Bytes raw, const StringPool& pool);

  const std::string& name() const { return name_; }
  const std::vector<Column>& columns() const { return columns_; }
  std::size_t rows() const { return rows_; }

  std::optional<std::size_t> find_column(std::string_view name) const;
  /// Of a text column; empty for null and for a column that does not exist.
  std::string_view text(std::size_t row, std::optional<std::size_t> column) const;
  /// Of a number column; nothing for null and for a column that does not exist.
  std::optional<std::int32_t> number(std::size_t row, std::optional<std::size_t> column) const;
  /// The name of the stream that a value is: the table's name and the row's keys.
  std::string stream_name(std::size_t row) const;
  /// Any value as text, as a table file has it.
  std::string shown(std::size_t row, std::size_t column) const;

 private:
  std::uint32_t raw_value(std::size_t row, std::size_t column) const;

  std::string name_;
  std::vector<Column> columns_;
  std::vector<std::size_t> starts_;  // of each column in raw_
  Bytes raw_;
  const StringPool& pool_;
  std::size_t rows_ = 0;
};

/// A stream's name in clear: names of a database's streams are packed, two characters in one unit. Tables
/// begin with '!'.
std::string decode_name(std::u16string_view stored);

/// A database of the Windows Installer: tables in the streams of a compound file.
class Database {
 public:
  /// Reads strings and the list of tables. Throws Malformed.
  explicit Database(SourcePtr bytes);

  const cfb::CompoundFile& file() const { return file_; }
  const std::vector<std::string>& tables() const { return tables_; }

  /// Null when there is no such table. Throws Malformed when it cannot be read. Safe to share.
  const Table* table(const std::string& name) const;
  /// A stream of the root storage by its name in clear; null when there is none.
  SourcePtr stream(std::string_view name) const;

 private:
  std::vector<Column> fixed_columns(std::initializer_list<std::pair<const char*, unsigned>> columns) const;
  Bytes read_stream(std::string_view name) const;
  void read_columns();
  std::size_t width_of(unsigned type) const;

  cfb::CompoundFile file_;
  std::map<std::string, std::size_t, std::less<>> streams_;  // name in clear to node
  StringPool pool_;
  std::vector<std::string> tables_;
  std::map<std::string, std::vector<Column>> columns_;
  mutable std::mutex mutex_;  // guards the next
  mutable std::map<std::string, std::unique_ptr<Table>> read_;
};

}  // namespace operculum::msi
