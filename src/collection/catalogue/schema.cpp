#include "collection/catalogue/schema.h"

#include <fmt/format.h>

#include <filesystem>

#include "base/error.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr int kApplicationId = 0x4f504343;  // "OPCC"

constexpr const char* kSchema = R"sql(
CREATE TABLE file(
  id INTEGER PRIMARY KEY,
  path TEXT NOT NULL UNIQUE,
  size INTEGER NOT NULL, modified INTEGER NOT NULL, inode INTEGER NOT NULL,
  state TEXT NOT NULL, format TEXT, kind TEXT, media_type TEXT, message TEXT,
  entries INTEGER NOT NULL DEFAULT 0, unpacked INTEGER NOT NULL DEFAULT 0,
  digests INTEGER NOT NULL DEFAULT 0,
  read_at INTEGER NOT NULL, verified_at INTEGER, verified TEXT, verify_message TEXT, gone_at INTEGER);
CREATE TABLE name(id INTEGER PRIMARY KEY, text TEXT NOT NULL UNIQUE);
CREATE TABLE folder(id INTEGER PRIMARY KEY, text TEXT NOT NULL UNIQUE);
CREATE TABLE content(
  id INTEGER PRIMARY KEY, size INTEGER NOT NULL, crc32 INTEGER NOT NULL, sha256 BLOB NOT NULL,
  copies INTEGER NOT NULL, UNIQUE(size, crc32, sha256));
CREATE TABLE entry(
  id INTEGER PRIMARY KEY, file_id INTEGER NOT NULL, folder_id INTEGER NOT NULL, name_id INTEGER NOT NULL,
  kind INTEGER NOT NULL, size INTEGER, stored INTEGER, modified INTEGER, depth INTEGER NOT NULL,
  format TEXT NOT NULL, content_id INTEGER);
CREATE TABLE finding(file_id INTEGER NOT NULL, path TEXT NOT NULL, level TEXT NOT NULL, text TEXT NOT NULL);
CREATE INDEX finding_file ON finding(file_id);
CREATE VIEW entries AS
  SELECT file.path AS file, folder.text || CASE folder.text WHEN '' THEN '' ELSE '/' END || name.text AS path,
         entry.size, entry.stored, datetime(entry.modified, 'unixepoch') AS modified, entry.depth, entry.format,
         printf('%08x', nullif(content.crc32, -1)) AS crc32, lower(hex(content.sha256)) AS sha256, content.copies
  FROM entry JOIN file ON file.id = entry.file_id JOIN folder ON folder.id = entry.folder_id
  JOIN name ON name.id = entry.name_id LEFT JOIN content ON content.id = entry.content_id
  WHERE file.gone_at IS NULL;
CREATE VIEW duplicates AS
  SELECT id AS content_id, size, copies, (copies - 1) * size AS cost FROM content WHERE copies > 1;
CREATE VIEW faulty AS
  SELECT path, state, coalesce(message, '') AS message, verified, verify_message FROM file
  WHERE gone_at IS NULL AND (state IN ('damaged', 'unreadable') OR verified = 'damaged');
)sql";

/// What questions are answered with, and what need not be there while very much is written.
constexpr const char* kIndexes = R"sql(
CREATE INDEX IF NOT EXISTS content_sha256 ON content(sha256) WHERE sha256 <> x'';
CREATE INDEX IF NOT EXISTS content_crc32 ON content(crc32);
CREATE INDEX IF NOT EXISTS content_cost ON content((copies - 1) * size) WHERE copies > 1;
CREATE INDEX IF NOT EXISTS entry_file ON entry(file_id);
CREATE INDEX IF NOT EXISTS entry_name ON entry(name_id);
CREATE INDEX IF NOT EXISTS entry_folder ON entry(folder_id);
CREATE INDEX IF NOT EXISTS entry_content ON entry(content_id) WHERE content_id IS NOT NULL;
CREATE INDEX IF NOT EXISTS entry_size ON entry(size);
CREATE INDEX IF NOT EXISTS entry_modified ON entry(modified);
)sql";

constexpr const char* kWithoutIndexes = R"sql(
DROP INDEX IF EXISTS main.content_sha256;
DROP INDEX IF EXISTS main.content_crc32;
DROP INDEX IF EXISTS main.content_cost;
DROP INDEX IF EXISTS main.entry_file;
DROP INDEX IF EXISTS main.entry_name;
DROP INDEX IF EXISTS main.entry_folder;
DROP INDEX IF EXISTS main.entry_content;
DROP INDEX IF EXISTS main.entry_size;
DROP INDEX IF EXISTS main.entry_modified;
)sql";

}  // namespace

std::unique_ptr<Database> open_catalogue(const std::string& path, Database::Mode mode) {
  auto database = std::make_unique<Database>(path, mode);
  bool to_write = mode == Database::Mode::create;
  if (to_write && database->number("SELECT count(*) FROM sqlite_schema") == 0) {
    database->execute("PRAGMA journal_mode = WAL");
    Transaction all(*database);
    database->execute(fmt::format("PRAGMA application_id = {}; PRAGMA user_version = {};", kApplicationId,
                                  kCatalogueVersion));
    database->execute(kSchema);
    all.commit();
  }
  if (database->number("PRAGMA application_id") != kApplicationId)
    throw Malformed(
        fmt::format("{} is no catalogue; `operculum catalogue` makes one in a new file", escape(path)));
  if (std::int64_t version = database->number("PRAGMA user_version"); version != kCatalogueVersion)
    throw Malformed(fmt::format("{} is a catalogue of version {}, and this program knows version {}",
                                escape(path), version, kCatalogueVersion));
  // What a lost machine may cost is the last containers, which the next run reads again.
  database->execute("PRAGMA synchronous = NORMAL; PRAGMA cache_size = -32768;");
  // Questions sort little; indexes are made of more than memory holds.
  database->execute(to_write ? "PRAGMA temp_store = FILE; PRAGMA temp.cache_size = -16384;"
                             : "PRAGMA temp_store = MEMORY;");
  if (to_write) make_indexes(*database);  // also those that a merge took away which did not come to its end
  return database;
}

void make_indexes(Database& database) {
  database.execute(kIndexes);
}

void drop_indexes(Database& database) {
  database.execute(kWithoutIndexes);
}

std::string catalogued_path(const std::string& path) {
  std::error_code none;
  std::filesystem::path whole =
      std::filesystem::weakly_canonical(std::filesystem::absolute(path, none), none);
  std::string out = none ? path : whole.string();
  while (out.size() > 1 && out.ends_with('/')) out.pop_back();
  return out;
}

void forget_entries(Database& database, std::int64_t file) {
  database
      .prepare(
          "UPDATE content SET copies = copies - used.count FROM (SELECT content_id, count(*) AS count FROM "
          "entry "
          "WHERE file_id = ?1 AND content_id IS NOT NULL GROUP BY content_id) AS used WHERE id = "
          "used.content_id")
      .bind(1, file)
      .run();
  database.prepare("DELETE FROM entry WHERE file_id = ?1").bind(1, file).run();
  database.prepare("DELETE FROM finding WHERE file_id = ?1").bind(1, file).run();
}

}  // namespace operculum
