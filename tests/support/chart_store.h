#pragma once

#include <map>
#include <string>

#include "base/bytes.h"

namespace operculum::test {

/// The harbour office's old chart store: a pack in a format that no description of ours knows, for studying.
/// Its table lies at the end; each record has a name of 24 bytes, two sizes, a place and a time; what is
/// packed is packed with zlib.
struct ChartStore {
  Bytes bytes;
  std::map<std::string, Bytes> files;
};

/// The store of a year: those of several years differ in what they hold.
ChartStore chart_store(unsigned year);

}  // namespace operculum::test
