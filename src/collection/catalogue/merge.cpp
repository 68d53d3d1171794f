#include "collection/catalogue/merge.h"

#include "base/error.h"

namespace operculum {
namespace {

// Whatever an index of the catalogue is asked for or given comes in the order of that index: in any other,
// each row of a catalogue that is larger than the cache would touch a page of its own.

/// Which files are taken, and what their rows and those of what they name are called here.
constexpr const char* kMaps = R"sql(
CREATE TEMP TABLE taken(old INTEGER PRIMARY KEY, new INTEGER, replaced INTEGER);
INSERT INTO taken(old, replaced)
  SELECT theirs.id, ours.id FROM other.file AS theirs LEFT JOIN main.file AS ours ON ours.path = theirs.path
  WHERE theirs.state <> 'reading' AND (ours.id IS NULL OR ours.state = 'reading' OR ours.read_at < theirs.read_at);
)sql";

constexpr const char* kForget = R"sql(
UPDATE main.content SET copies = copies - used.count FROM
  (SELECT content_id, count(*) AS count FROM main.entry WHERE content_id IS NOT NULL AND file_id IN
    (SELECT replaced FROM taken) GROUP BY content_id) AS used WHERE main.content.id = used.content_id;
DELETE FROM main.entry WHERE file_id IN (SELECT replaced FROM taken);
DELETE FROM main.finding WHERE file_id IN (SELECT replaced FROM taken);
DELETE FROM main.file WHERE id IN (SELECT replaced FROM taken);
)sql";

constexpr const char* kTakeFiles = R"sql(
INSERT INTO main.file(path, size, modified, inode, state, format, kind, media_type, message, entries, unpacked, digests,
    read_at, verified_at, verified, verify_message, gone_at)
  SELECT path, size, modified, inode, state, format, kind, media_type, message, entries, unpacked, digests, read_at,
    verified_at, verified, verify_message, gone_at FROM other.file WHERE id IN (SELECT old FROM taken) ORDER BY path;
UPDATE taken SET new = (SELECT ours.id FROM other.file AS theirs JOIN main.file AS ours ON ours.path = theirs.path
  WHERE theirs.id = taken.old);
INSERT OR IGNORE INTO main.name(text) SELECT text FROM other.name ORDER BY text;
INSERT OR IGNORE INTO main.folder(text) SELECT text FROM other.folder ORDER BY text;
CREATE TEMP TABLE names(old INTEGER PRIMARY KEY, new INTEGER);
INSERT INTO names SELECT theirs.id, ours.id FROM other.name AS theirs JOIN main.name AS ours ON ours.text = theirs.text;
CREATE TEMP TABLE folders(old INTEGER PRIMARY KEY, new INTEGER);
INSERT INTO folders SELECT theirs.id, ours.id FROM other.folder AS theirs
  JOIN main.folder AS ours ON ours.text = theirs.text;
)sql";

/// Contents with as many copies as come along: counted where not all files are taken.
constexpr const char* kTakeAllContents = R"sql(
INSERT INTO main.content(size, crc32, sha256, copies)
  SELECT size, crc32, sha256, copies FROM other.content WHERE copies > 0 ORDER BY size, crc32, sha256
  ON CONFLICT(size, crc32, sha256) DO UPDATE SET copies = copies + excluded.copies;
)sql";

constexpr const char* kTakeSomeContents = R"sql(
INSERT INTO main.content(size, crc32, sha256, copies)
  SELECT theirs.size, theirs.crc32, theirs.sha256, used.count FROM
    (SELECT content_id, count(*) AS count FROM other.entry WHERE content_id IS NOT NULL AND file_id IN
      (SELECT old FROM taken) GROUP BY content_id) AS used JOIN other.content AS theirs ON theirs.id = used.content_id
  WHERE true ORDER BY size, crc32, sha256 ON CONFLICT(size, crc32, sha256) DO UPDATE SET copies = copies + excluded.copies;
)sql";

constexpr const char* kTakeEntries = R"sql(
CREATE TEMP TABLE contents(old INTEGER PRIMARY KEY, new INTEGER);
INSERT INTO contents SELECT theirs.id, ours.id FROM other.content AS theirs
  CROSS JOIN main.content AS ours ON ours.size = theirs.size AND ours.crc32 = theirs.crc32 AND ours.sha256 = theirs.sha256
  ORDER BY theirs.size, theirs.crc32, theirs.sha256;
INSERT INTO main.entry(file_id, folder_id, name_id, kind, size, stored, modified, depth, format, content_id)
  SELECT taken.new, folders.new, names.new, kind, size, stored, modified, depth, format, contents.new FROM other.entry
    CROSS JOIN taken ON taken.old = file_id JOIN folders ON folders.old = folder_id JOIN names ON names.old = name_id
    LEFT JOIN contents ON contents.old = content_id ORDER BY other.entry.id;
INSERT INTO main.finding SELECT taken.new, path, level, text FROM other.finding JOIN taken ON taken.old = file_id;
)sql";

constexpr std::uint64_t kWorthIt = 100'000;  // entries from which on indexes are better made at the end

constexpr const char* kDone = "DROP TABLE taken; DROP TABLE names; DROP TABLE folders; DROP TABLE contents;";

std::uint64_t count(Database& database, std::string_view sql) {
  return static_cast<std::uint64_t>(database.number(sql));
}

/// Another catalogue, named "other" in statements while this lives.
class Attached {
 public:
  Attached(Database& database, const std::string& other) : database_(database) {
    database_.prepare("ATTACH ?1 AS other").bind(1, other).run();
  }
  ~Attached() {
    try {
      database_.execute("DETACH other");
    } catch (const Error&) {
      return;  // a transaction that could not be ended holds it
    }
  }
  Attached(const Attached&) = delete;
  Attached& operator=(const Attached&) = delete;

 private:
  Database& database_;
};

}  // namespace

MergeTotals CatalogueMerge::take(const std::string& other) {
  open_catalogue(other, Database::Mode::read);  // says what is wrong with it
  Attached attached(database_, other);
  MergeTotals totals;
  Transaction all(database_);
  database_.execute(kMaps);
  totals.files = count(database_, "SELECT count(*) FROM taken");
  totals.kept = count(database_, "SELECT count(*) FROM other.file WHERE state <> 'reading'") - totals.files;
  totals.entries =
      count(database_, "SELECT count(*) FROM other.entry WHERE file_id IN (SELECT old FROM taken)");
  if (count(database_, "SELECT count(replaced) FROM taken") > 0) database_.execute(kForget);
  bool much = indexed_ && totals.entries > kWorthIt &&
              totals.entries > count(database_, "SELECT count(*) FROM main.entry") / 2;
  if (much) drop_indexes(database_);
  database_.execute(kTakeFiles);
  bool all_of_it = totals.files == count(database_, "SELECT count(*) FROM other.file");
  database_.execute(all_of_it ? kTakeAllContents : kTakeSomeContents);
  database_.execute(kTakeEntries);
  database_.execute(kDone);
  all.commit();
  indexed_ = indexed_ && !much;
  return totals;
}

void CatalogueMerge::finish() {
  if (indexed_) return;
  make_indexes(database_);
  indexed_ = true;
}

}  // namespace operculum
