#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "base/bytes.h"

struct sqlite3;
struct sqlite3_stmt;

namespace operculum {

/// A prepared statement of SQL, used again and again: bind, step, reset. Belongs to one Database and one
/// thread at a time. All members throw Error of kind io with what SQLite says.
class Statement {
 public:
  Statement(sqlite3* database, std::string_view sql);
  ~Statement();
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;

  // Parameters are counted from 1; text and bytes must live until the next reset.
  Statement& bind(int at, std::int64_t value);
  Statement& bind(int at, std::string_view text);
  Statement& bind_bytes(int at, ByteView bytes);
  Statement& bind_null(int at);
  Statement& bind_size(int at, std::uint64_t size);  ///< null where it is not known (Entry::kUnknownSize)

  bool step();  ///< true when there is a row
  void run();   ///< one step to the end, and reset
  void reset();

  // Columns of the row at hand are counted from 0.
  std::int64_t number(int column) const;
  std::uint64_t size(int column) const;  ///< Entry::kUnknownSize for null
  bool is_null(int column) const;
  std::string text(int column) const;
  Bytes bytes(int column) const;

 private:
  [[noreturn]] void fail() const;
  sqlite3_stmt* handle_ = nullptr;
};

/// An SQLite database. From one thread at a time.
class Database {
 public:
  enum class Mode { read, create };
  /// Throws Error of kind io.
  Database(const std::string& path, Mode mode);
  ~Database();
  Database(const Database&) = delete;
  Database& operator=(const Database&) = delete;

  void execute(const std::string& sql);  ///< statements that give no rows
  Statement prepare(std::string_view sql) { return Statement(handle_, sql); }
  std::int64_t last_id() const;
  std::int64_t number(std::string_view sql);  ///< the first column of the first row; 0 when there is none

 private:
  sqlite3* handle_ = nullptr;
};

/// Everything between its making and commit() happens as a whole, or not at all.
class Transaction {
 public:
  explicit Transaction(Database& database);
  ~Transaction();
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  void commit();

 private:
  Database& database_;
  bool done_ = false;
};

}  // namespace operculum
