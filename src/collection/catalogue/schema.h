#pragma once

#include "collection/catalogue/database.h"

namespace operculum {

/// The tables of a catalogue; docs/collections.md tells each. In short: `file` is a file on disk, `entry`
/// something in it at any depth, whose last part is a `name`, the folders above it a `folder`, and whose
/// bytes are a `content`, shared by all entries of the same size and sums: so that duplicates are counted
/// while they come in and a question about a name looks at each name once.
constexpr int kCatalogueVersion = 1;

/// States of a file in the catalogue.
inline constexpr std::string_view kReading = "reading";  ///< begun, not done: read again by the next run
inline constexpr std::string_view kListed = "listed";    ///< a container, listed without a fault
inline constexpr std::string_view kDamaged =
    "damaged";  ///< a container with faults, listed as far as it goes
inline constexpr std::string_view kUnreadable = "unreadable";  ///< it could not be opened
inline constexpr std::string_view kPlain = "plain";            ///< no container that the program knows

/// What an entry's ids stand for, for all questions about entries.
inline constexpr std::string_view kEntryJoins =
    "FROM entry JOIN file ON file.id = entry.file_id JOIN folder ON folder.id = entry.folder_id "
    "JOIN name ON name.id = entry.name_id ";

/// Opens a catalogue; `create` makes the tables where the file is new. Throws Error of kind io, and Malformed
/// when it is no catalogue, or of a later version.
std::unique_ptr<Database> open_catalogue(const std::string& path, Database::Mode mode);

/// A path on disk as catalogues keep it: from the root, links followed, so that it means the same wherever
/// one stands.
std::string catalogued_path(const std::string& path);

/// Takes the indexes of entries and contents away, and makes those that are missing: where much more is
/// written than was there, making them at the end is many times quicker. A catalogue that is opened to be
/// written has them all.
void drop_indexes(Database& database);
void make_indexes(Database& database);

/// Takes everything within a file out of the catalogue; the file's own row stays.
void forget_entries(Database& database, std::int64_t file);

}  // namespace operculum
