#pragma once

#include <cstdint>
#include <string>

namespace operculum::bench {

/// A tidepool shoal (layouts/shoal.layout) of many entries without data.
void make_shoal_of_many(const std::string& path, std::uint64_t records);

/// Makes all entries: with code written for this one format, and with its description.
void list_shoal_by_hand(const std::string& path);
void list_shoal_described(const std::string& path);

}  // namespace operculum::bench
