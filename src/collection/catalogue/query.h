#pragma once

#include "collection/catalogue/schema.h"
#include "collection/compare.h"
#include "collection/find.h"

namespace operculum {

/// Answers a question of find() from a catalogue, without a look at the files. Throws Unsupported for what a
/// catalogue does not know: contents and kinds of entries.
FindTotals find_in_catalogue(Database& database, const FindRequest& request, const FindEvents& events);

/// What differs between two files of a catalogue, by sizes and sums. Of nested containers the entries are
/// compared, too, with request.deep. What has no sum and the same size counts as unreadable. Throws Malformed
/// for a file that the catalogue does not have.
CompareTotals compare_in_catalogue(Database& database, const std::string& before, const std::string& after,
                                   const CompareRequest& request, const DifferenceSink& sink);

}  // namespace operculum
