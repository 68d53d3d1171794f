#pragma once

#include "collection/catalogue/schema.h"

namespace operculum {

/// A name, how often it is there, and how much it takes.
struct OverviewRow {
  std::string name;
  std::uint64_t count = 0, bytes = 0;
};

/// Bytes that lie in several places.
struct OverviewDuplicate {
  std::uint64_t size = 0, copies = 0;
  std::vector<std::string> places;  ///< locators, a few of them
  std::uint64_t cost() const { return (copies - 1) * size; }
};

/// A file of the collection as the catalogue has it.
struct OverviewFile {
  std::string path, state, message;
  std::uint64_t size = 0;
  std::int64_t modified = 0;  ///< seconds since 1970
};

/// What a collection looks like as a whole.
struct Overview {
  std::uint64_t files = 0, bytes = 0, gone = 0, unfinished = 0;
  std::uint64_t entries = 0, unpacked = 0, verified = 0;
  std::vector<OverviewRow> formats;  ///< of files, those that take most first; "" for no container
  std::vector<OverviewRow>
      unknown;  ///< endings of files that are no container the program knows, and no media
  std::uint64_t duplicate_contents = 0, duplicate_cost = 0;
  std::vector<OverviewDuplicate> duplicates;  ///< the costliest
  std::vector<OverviewFile> faulty;
  std::uint64_t faulty_count = 0;
  std::vector<OverviewFile> largest, newest;  ///< entries, by their locators
};

/// Asks a catalogue; of each list no more than `most` rows.
Overview overview_of(Database& database, std::size_t most);

}  // namespace operculum
