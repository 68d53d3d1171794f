#pragma once

#include <map>
#include <string>
#include <vector>

#include "support/byte_writer.h"

namespace operculum::test {

/// A pack of a made-up format of Saltmarsh Point, as its description in layouts/ says it is built.
struct Pack {
  std::string layout;                           ///< the description's name
  std::string name;                             ///< of the main file
  Bytes bytes;                                  ///< of the main file
  std::map<std::string, Bytes> beside;          ///< further files, by name
  std::map<std::string, std::string> contents;  ///< what every entry must hold, by path
  std::size_t header = 0;                       ///< bytes at the front that steer everything
  std::string key;                              ///< the key named "gauge master", when one is needed
  bool checked = true;                          ///< its entries have checksums
};

/// One of each family; made when it is first asked for.
const Pack& pack_number(std::size_t number);
constexpr std::size_t kPacks = 15;

// Writers of single families, for tests that bend them.
Pack shoal_pack();
Pack kelp_pack();
Pack gauge_pack();
Pack tern_pack();
Pack mussel_pack(bool big);
Pack reef_pack();
Pack harbour_pack();
Pack ledger_pack();
Pack eel_pack(bool big);
Pack drift_pack(int version);
Pack cockle_pack();
Pack swell_pack();

/// An update of the tide gauges (layouts/swell.layout): named parts, in their order.
Bytes make_swell(const std::string& version, const std::vector<std::pair<std::string, Bytes>>& parts);

}  // namespace operculum::test
