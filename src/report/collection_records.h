#pragma once

#include "base/shown.h"
#include "collection/catalogue/merge.h"
#include "collection/catalogue/overview.h"
#include "collection/catalogue/update.h"
#include "collection/compare.h"
#include "collection/loading_order.h"
#include "collection/versions.h"

namespace operculum {

// The records of --json that answer questions across many containers, as those of report/records.h.

Shown json_line(const Difference& difference);
Shown json_line(const CompareTotals& totals);
Shown json_line(const FoundFile& file);
Shown json_line(const FileVersions& file, const FileVersion& version);
Shown json_line(const FindTotals& totals);
Shown json_line(const CatalogueTotals& totals);
Shown json_line(const Overview& overview);
Shown json_line(const std::string& catalogue, const MergeTotals& totals);
Shown json_line(const LoadingOrder& order, const ProvidedPath& path);
Shown json_line(const LoadedPack& pack, std::size_t place);  ///< the place from 0

}  // namespace operculum
