#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

constexpr std::size_t kLeastRecords = 6, kLeastFolders = 2;  ///< where it is looked for folders

/// The name of a record, by itself; empty where names are elsewhere.
std::string record_name(const Hypothesis& found, std::size_t row);

/// Whether records have names of one folder only. The first one, a folder of all others, may lack it.
enum class NamelessFirst { may_be, not_at_all };
bool has_plain_names(const Hypothesis& found, NamelessFirst first);

/// Looks for a column that tells which record an entry lies in, where records have names of their own: those
/// that it names have no data, and others lie in them. Numbers count records from 0 or from 1 on.
void find_parents(Hypothesis& found);

}  // namespace operculum::study
