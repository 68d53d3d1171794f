#include "collection/catalogue/database.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include "base/error.h"
#include "base/text.h"
#include "container/entry.h"

namespace operculum {
namespace {

constexpr int kBusyMilliseconds = 30'000;  // another run may be writing

}  // namespace

Statement::Statement(sqlite3* database, std::string_view sql) {
  if (sqlite3_prepare_v3(database, sql.data(), static_cast<int>(sql.size()), SQLITE_PREPARE_PERSISTENT,
                         &handle_, nullptr) != SQLITE_OK)
    throw Error(ErrorKind::io, fmt::format("the catalogue: {}", sqlite3_errmsg(database)));
}
Statement::~Statement() {
  sqlite3_finalize(handle_);
}

void Statement::fail() const {
  throw Error(ErrorKind::io, fmt::format("the catalogue: {}", sqlite3_errmsg(sqlite3_db_handle(handle_))));
}

Statement& Statement::bind(int at, std::int64_t value) {
  if (sqlite3_bind_int64(handle_, at, value) != SQLITE_OK) fail();
  return *this;
}
Statement& Statement::bind(int at, std::string_view text) {
  if (sqlite3_bind_text64(handle_, at, text.data(), text.size(), SQLITE_STATIC, SQLITE_UTF8) != SQLITE_OK)
    fail();
  return *this;
}
Statement& Statement::bind_bytes(int at, ByteView bytes) {
  static const Byte kNone = 0;
  const Byte* data = bytes.empty() ? &kNone : bytes.data();  // null would be bound as NULL
  if (sqlite3_bind_blob64(handle_, at, data, bytes.size(), SQLITE_STATIC) != SQLITE_OK) fail();
  return *this;
}
Statement& Statement::bind_null(int at) {
  if (sqlite3_bind_null(handle_, at) != SQLITE_OK) fail();
  return *this;
}
Statement& Statement::bind_size(int at, std::uint64_t size) {
  if (size > INT64_MAX) return bind_null(at);
  return bind(at, static_cast<std::int64_t>(size));
}

bool Statement::step() {
  int result = sqlite3_step(handle_);
  if (result != SQLITE_ROW && result != SQLITE_DONE) fail();
  return result == SQLITE_ROW;
}
void Statement::run() {
  while (step()) continue;
  reset();
}
void Statement::reset() {
  sqlite3_reset(handle_);
}

std::int64_t Statement::number(int column) const {
  return sqlite3_column_int64(handle_, column);
}
std::uint64_t Statement::size(int column) const {
  return is_null(column) ? Entry::kUnknownSize : static_cast<std::uint64_t>(number(column));
}
bool Statement::is_null(int column) const {
  return sqlite3_column_type(handle_, column) == SQLITE_NULL;
}
std::string Statement::text(int column) const {
  const unsigned char* text = sqlite3_column_text(handle_, column);
  if (text == nullptr) return "";
  return {reinterpret_cast<const char*>(text),
          static_cast<std::size_t>(sqlite3_column_bytes(handle_, column))};
}
Bytes Statement::bytes(int column) const {
  const auto* data = static_cast<const Byte*>(sqlite3_column_blob(handle_, column));
  if (data == nullptr) return {};
  return {data, data + sqlite3_column_bytes(handle_, column)};
}

Database::Database(const std::string& path, Mode mode) {
  int flags = mode == Mode::read ? SQLITE_OPEN_READONLY : SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE;
  if (sqlite3_open_v2(path.c_str(), &handle_, flags, nullptr) != SQLITE_OK) {
    std::string words = handle_ != nullptr ? sqlite3_errmsg(handle_) : "no memory";
    sqlite3_close(handle_);
    throw Error(ErrorKind::io, fmt::format("{}: {}", escape(path), words));
  }
  sqlite3_busy_timeout(handle_, kBusyMilliseconds);
  // A file that was made to do so must not run anything.
  sqlite3_db_config(handle_, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
  sqlite3_db_config(handle_, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
}
Database::~Database() {
  sqlite3_close(handle_);
}

void Database::execute(const std::string& sql) {
  if (sqlite3_exec(handle_, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK)
    throw Error(ErrorKind::io, fmt::format("the catalogue: {}", sqlite3_errmsg(handle_)));
}
std::int64_t Database::last_id() const {
  return sqlite3_last_insert_rowid(handle_);
}
std::int64_t Database::number(std::string_view sql) {
  Statement statement = prepare(sql);
  return statement.step() ? statement.number(0) : 0;
}

Transaction::Transaction(Database& database) : database_(database) {
  database_.execute("BEGIN IMMEDIATE");
}
Transaction::~Transaction() {
  if (done_) return;
  try {
    database_.execute("ROLLBACK");
  } catch (const Error&) {
    return;  // SQLite has rolled back by itself
  }
}
void Transaction::commit() {
  database_.execute("COMMIT");
  done_ = true;
}

}  // namespace operculum
