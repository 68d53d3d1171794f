#pragma once

#include "collection/catalogue/merge.h"
#include "collection/catalogue/overview.h"
#include "collection/catalogue/update.h"
#include "collection/compare.h"
#include "collection/loading_order.h"
#include "collection/versions.h"

namespace operculum {

// The records of --json that answer questions across many containers, as those of report/records.h.

std::string json_line(const Difference& difference);
std::string json_line(const CompareTotals& totals);
std::string json_line(const FoundFile& file);
std::string json_line(const FileVersions& file, const FileVersion& version);
std::string json_line(const FindTotals& totals);
std::string json_line(const CatalogueTotals& totals);
std::string json_line(const Overview& overview);
std::string json_line(const std::string& catalogue, const MergeTotals& totals);
std::string json_line(const LoadingOrder& order, const ProvidedPath& path);
std::string json_line(const LoadedPack& pack, std::size_t place);  ///< the place from 0

}  // namespace operculum
