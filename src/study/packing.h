#pragma once

#include <map>
#include <tuple>

#include "study/hypothesis.h"

namespace operculum::study {

/// How long what came out of codecs was, of one subject: explanations that place data alike need not decode
/// it again.
class Decodings {
 public:
  /// By codec (its number), place, size and the most that was to come out; nothing: it failed.
  using Key = std::tuple<std::size_t, std::uint64_t, std::uint64_t, std::uint64_t>;
  template <typename Decode>
  std::optional<std::uint64_t> size(const Key& key, const Decode& decode) {
    auto known = sizes_.find(key);
    if (known == sizes_.end()) known = sizes_.emplace(key, decode()).first;
    return known->second;
  }

 private:
  std::map<Key, std::optional<std::uint64_t>> sizes_;
};

constexpr double kMostPackingBits = 72;  ///< the most that a codec found speaks for an explanation

/// Finds out how entries' data is packed: tries every codec of the layout language on a few of them, and
/// compares what comes out with a column that could be their unpacked size. Adds that column, and notes what
/// tells packed entries from others.
void find_packing(Hypothesis& found, const Subject& subject, Decodings& decodings);

/// Where a row's data lies in the file.
struct DataRun {
  std::uint64_t at = 0, size = 0;
};
std::vector<DataRun> data_runs(const Hypothesis& found);

}  // namespace operculum::study
