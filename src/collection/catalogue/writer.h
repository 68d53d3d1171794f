#pragma once

#include <chrono>
#include <mutex>

#include "collection/catalogue/schema.h"
#include "container/entry.h"

namespace operculum {

/// Something in a file, as it is written into a catalogue.
struct CatalogueEntry {
  std::string path;  ///< within the file, through nested containers
  EntryKind kind = EntryKind::file;
  std::uint64_t size = Entry::kUnknownSize, stored = Entry::kUnknownSize;  ///< in bytes
  Timestamp modified;
  std::size_t depth = 0;
  std::string_view format;  ///< of the container that holds it
  std::optional<std::uint32_t> crc32;
  Bytes sha256;  ///< empty where it was not taken
};

/// What is known of a file on disk.
struct CatalogueFile {
  std::string path;
  std::uint64_t size = 0;
  std::int64_t modified = 0;  ///< nanoseconds since 1970
  std::uint64_t inode = 0;
};

/// How reading a file ended.
struct CatalogueOutcome {
  std::string_view state;
  std::string format, kind, media_type, message;
  std::uint64_t entries = 0, unpacked = 0;
  bool digests = false;
  std::vector<std::pair<std::string, std::string>> faults;  ///< path within the file, sentence
};

/// Puts files and what is in them into a catalogue. Several threads may use it at the same time: what they
/// write is written one after another. What is quickly done shares a transaction, so that a kill costs no
/// more than a moment's files; a file whose finish() was lost is one that was begun.
class CatalogueWriter {
 public:
  explicit CatalogueWriter(Database& database);
  ~CatalogueWriter();
  CatalogueWriter(const CatalogueWriter&) = delete;
  CatalogueWriter& operator=(const CatalogueWriter&) = delete;

  /// Begins a file anew: what was known of what is in it is forgotten. Returns its row.
  std::int64_t begin(const CatalogueFile& file);
  void add(std::int64_t file, const std::vector<CatalogueEntry>& entries);
  void finish(std::int64_t file, const CatalogueOutcome& outcome);
  void verified(std::int64_t file, std::string_view result, const std::string& message);
  void mark_gone(const std::vector<std::int64_t>& files);
  void commit();  ///< what was written so far; the destructor does the same, and says nothing when it fails

 private:
  void begin_transaction();
  void wrote(std::size_t rows);  ///< commits when it is time
  void commit_now();
  void add_one(std::int64_t file, const CatalogueEntry& entry);
  static std::int64_t id_of(Statement& find, Statement& add, Database& database, std::string_view text);
  std::optional<std::int64_t> content_of(const CatalogueEntry& entry);

  std::mutex mutex_;  // guards the rest
  Database& database_;
  std::optional<Transaction> open_;
  std::size_t written_ = 0;  // rows since it was opened
  std::chrono::steady_clock::time_point committed_ = std::chrono::steady_clock::now();
  Statement find_name_, add_name_, find_folder_, add_folder_, add_content_, add_entry_;
};

}  // namespace operculum
