#pragma once

#include <map>
#include <string>

#include "base/bytes.h"
#include "base/time.h"
#include "container/entry.h"
#include "io/extent_source.h"

namespace operculum::tar {

/// pax extended header records by keyword (POSIX.1-2001, pax, "pax Extended Header"). An empty value deletes.
using PaxRecords = std::map<std::string, std::string, std::less<>>;

/// The records that hold for one entry: its own, and behind them the archive's.
struct PaxScope {
  const PaxRecords& own;
  const PaxRecords& global;
  bool empty() const { return own.empty() && global.empty(); }
};

/// Reads "LENGTH KEYWORD=VALUE\n" records and lays them over `records`. Throws Malformed. The keywords of
/// sparse format 0.0 occur many times; they are collected into one "GNU.sparse.map" as format 0.1 writes it.
void read_pax(ByteView data, std::uint64_t offset, PaxRecords& records);

/// The value, or nothing when the keyword is absent or was deleted.
const std::string* find(const PaxScope& scope, std::string_view keyword);

/// A decimal number; throws Malformed naming the keyword.
std::uint64_t pax_number(const std::string& keyword, std::string_view value);

/// "1234567890.123456789", also negative; unknown when it is no time.
Timestamp pax_time(std::string_view value);

/// A map "offset,length,offset,length,..." (sparse 0.1); `stored` offsets are filled in rising order.
std::vector<Extent> parse_sparse_map(std::string_view map);

}  // namespace operculum::tar
