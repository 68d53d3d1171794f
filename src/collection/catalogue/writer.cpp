#include "collection/catalogue/writer.h"

#include <ctime>

#include "base/error.h"

namespace operculum {
namespace {

constexpr std::int64_t kNoCrc = -1;
// What a transaction holds at most: committing each small file by itself would take most of the time.
constexpr std::size_t kMostRows = 20'000;
constexpr std::chrono::milliseconds kLongest{100};

std::int64_t now() {
  return static_cast<std::int64_t>(std::time(nullptr));
}

}  // namespace

CatalogueWriter::CatalogueWriter(Database& database)
    : database_(database),
      find_name_(database.prepare("SELECT id FROM name WHERE text = ?1")),
      add_name_(database.prepare("INSERT INTO name(text) VALUES(?1)")),
      find_folder_(database.prepare("SELECT id FROM folder WHERE text = ?1")),
      add_folder_(database.prepare("INSERT INTO folder(text) VALUES(?1)")),
      add_content_(database.prepare(
          "INSERT INTO content(size, crc32, sha256, copies) VALUES(?1, ?2, ?3, 1) "
          "ON CONFLICT(size, crc32, sha256) DO UPDATE SET copies = copies + 1 RETURNING id")),
      add_entry_(database.prepare(
          "INSERT INTO entry(file_id, folder_id, name_id, kind, size, stored, modified, depth, "
          "format, content_id) VALUES(?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)")) {}

CatalogueWriter::~CatalogueWriter() {
  try {
    commit();
  } catch (const Error&) {
    return;  // as if the machine had been lost
  }
}

void CatalogueWriter::begin_transaction() {
  if (!open_) open_.emplace(database_);
}

void CatalogueWriter::wrote(std::size_t rows) {
  written_ += rows;
  if (written_ >= kMostRows || std::chrono::steady_clock::now() - committed_ >= kLongest) commit_now();
}

void CatalogueWriter::commit_now() {
  if (open_) open_->commit();
  open_.reset();
  written_ = 0;
  committed_ = std::chrono::steady_clock::now();
}

void CatalogueWriter::commit() {
  std::lock_guard lock(mutex_);
  commit_now();
}

std::int64_t CatalogueWriter::begin(const CatalogueFile& file) {
  std::lock_guard lock(mutex_);
  begin_transaction();
  Statement find = database_.prepare("SELECT id FROM file WHERE path = ?1");
  find.bind(1, file.path);
  std::int64_t id = find.step() ? find.number(0) : 0;
  find.reset();
  if (id != 0) forget_entries(database_, id);
  database_
      .prepare(
          "INSERT INTO file(path, size, modified, inode, state, read_at) VALUES(?1, ?2, ?3, ?4, ?5, ?6) "
          "ON CONFLICT(path) DO UPDATE SET size = ?2, modified = ?3, inode = ?4, state = ?5, read_at = ?6, "
          "gone_at = NULL, verified = NULL, verified_at = NULL, verify_message = NULL, message = NULL, "
          "format = NULL, "
          "kind = NULL, media_type = NULL, entries = 0, unpacked = 0, digests = 0")
      .bind(1, file.path)
      .bind_size(2, file.size)
      .bind(3, file.modified)
      .bind(4, static_cast<std::int64_t>(file.inode))
      .bind(5, kReading)
      .bind(6, now())
      .run();
  if (id == 0) id = database_.last_id();
  return id;
}

void CatalogueWriter::add(std::int64_t file, const std::vector<CatalogueEntry>& entries) {
  std::lock_guard lock(mutex_);
  begin_transaction();
  for (const CatalogueEntry& entry : entries) add_one(file, entry);
  wrote(entries.size());
}

void CatalogueWriter::add_one(std::int64_t file, const CatalogueEntry& entry) {
  std::string_view path = entry.path, name = base_name(path);
  std::string_view folder = path.substr(0, path.size() - name.size());
  while (folder.ends_with('/')) folder.remove_suffix(1);
  auto content = content_of(entry);
  add_entry_.bind(1, file)
      .bind(2, id_of(find_folder_, add_folder_, database_, folder))
      .bind(3, id_of(find_name_, add_name_, database_, name))
      .bind(4, static_cast<std::int64_t>(entry.kind))
      .bind_size(5, entry.size)
      .bind_size(6, entry.stored);
  if (entry.modified.known()) {
    add_entry_.bind(7, to_unix_seconds(entry.modified));
  } else {
    add_entry_.bind_null(7);
  }
  add_entry_.bind(8, static_cast<std::int64_t>(entry.depth)).bind(9, entry.format);
  if (content) {
    add_entry_.bind(10, *content);
  } else {
    add_entry_.bind_null(10);
  }
  add_entry_.run();
}

std::int64_t CatalogueWriter::id_of(Statement& find, Statement& add, Database& database,
                                    std::string_view text) {
  find.bind(1, text);
  std::int64_t id = find.step() ? find.number(0) : 0;
  find.reset();
  if (id != 0) return id;
  add.bind(1, text).run();
  return database.last_id();
}

/// Bytes of which a sum is known are counted with all others of that sum; an empty file is no copy of
/// another.
std::optional<std::int64_t> CatalogueWriter::content_of(const CatalogueEntry& entry) {
  bool known = entry.crc32 || !entry.sha256.empty();
  if (!known || entry.size == 0 || entry.size == Entry::kUnknownSize) return std::nullopt;
  add_content_.bind_size(1, entry.size)
      .bind(2, entry.crc32 ? static_cast<std::int64_t>(*entry.crc32) : kNoCrc)
      .bind_bytes(3, entry.sha256);
  std::optional<std::int64_t> id;
  if (add_content_.step()) id = add_content_.number(0);
  add_content_.reset();
  return id;
}

void CatalogueWriter::finish(std::int64_t file, const CatalogueOutcome& outcome) {
  std::lock_guard lock(mutex_);
  begin_transaction();
  Statement update = database_.prepare(
      "UPDATE file SET state = ?2, format = nullif(?3, ''), kind = nullif(?4, ''), media_type = nullif(?5, "
      "''), message = "
      "nullif(?6, ''), entries = ?7, unpacked = ?8, digests = ?9 WHERE id = ?1");
  update.bind(1, file)
      .bind(2, outcome.state)
      .bind(3, outcome.format)
      .bind(4, outcome.kind)
      .bind(5, outcome.media_type)
      .bind(6, outcome.message)
      .bind_size(7, outcome.entries)
      .bind_size(8, outcome.unpacked)
      .bind(9, outcome.digests ? 1 : 0)
      .run();
  Statement fault =
      database_.prepare("INSERT INTO finding(file_id, path, level, text) VALUES(?1, ?2, 'fault', ?3)");
  for (const auto& [path, sentence] : outcome.faults)
    fault.bind(1, file).bind(2, path).bind(3, sentence).run();
  wrote(1 + outcome.faults.size());
}

void CatalogueWriter::verified(std::int64_t file, std::string_view result, const std::string& message) {
  std::lock_guard lock(mutex_);
  begin_transaction();
  database_
      .prepare(
          "UPDATE file SET verified_at = ?2, verified = ?3, verify_message = nullif(?4, '') WHERE id = ?1")
      .bind(1, file)
      .bind(2, now())
      .bind(3, result)
      .bind(4, message)
      .run();
  wrote(1);
}

void CatalogueWriter::mark_gone(const std::vector<std::int64_t>& files) {
  std::lock_guard lock(mutex_);
  Statement update = database_.prepare("UPDATE file SET gone_at = ?2 WHERE id = ?1");
  for (std::int64_t file : files) {
    begin_transaction();
    forget_entries(database_, file);
    update.bind(1, file).bind(2, now()).run();
    wrote(1);
  }
}

}  // namespace operculum
