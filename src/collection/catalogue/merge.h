#pragma once

#include "collection/catalogue/schema.h"

namespace operculum {

/// What was taken over from other catalogues.
struct MergeTotals {
  std::uint64_t files = 0;  ///< taken over
  std::uint64_t kept = 0;   ///< of which the catalogue had a newer reading
  std::uint64_t entries = 0;
};

/// Takes over what other catalogues know. Of a file that both know the newer reading stays.
class CatalogueMerge {
 public:
  explicit CatalogueMerge(Database& database) : database_(database) {}

  /// All of it or nothing. Throws Malformed when `other` is no catalogue, Error of kind io.
  MergeTotals take(const std::string& other);

  /// Whether so much came that the indexes were taken away.
  bool lacks_indexes() const { return !indexed_; }
  /// Makes them again. Without it, whoever opens the catalogue to write makes them; until then questions are
  /// slow. Throws Error of kind io.
  void finish();

 private:
  Database& database_;
  bool indexed_ = true;
};

}  // namespace operculum
