#pragma once

#include <cstdint>
#include <map>
#include <mutex>
#include <set>
#include <string>
#include <vector>

#include "base/bytes.h"

namespace operculum::test {

/// Small containers by name: those of fuzz/seeds.cpp, "kernel-" and a set of tests/fixtures/kernel, "corpus/"
/// and a file of fuzz/corpus, else the codec of that name. Each is made once.
const Bytes& named_sample(const std::string& name);
constexpr std::string_view kCorpusSamples = "corpus/";

/// Bytes that are put at a place.
struct ChangedBytes {
  std::uint64_t at = 0;
  Bytes bytes;
};
using Damage = std::vector<ChangedBytes>;

/// Which bytes of a sample are read. Safe to share between threads.
class Reads {
 public:
  void note(std::uint64_t at, std::size_t count) {
    std::lock_guard lock(mutex_);
    if (count <= kMostAtOnce) ranges_.emplace(at, count);  // what is read in larger pieces is data
  }
  /// The places of all of them, in order.
  std::set<std::uint64_t> places() const {
    std::set<std::uint64_t> all;
    for (auto [at, count] : ranges_)
      for (std::size_t i = 0; i < count; ++i) all.insert(at + i);
    return all;
  }

 private:
  static constexpr std::size_t kMostAtOnce = 16384;
  std::mutex mutex_;
  std::set<std::pair<std::uint64_t, std::size_t>> ranges_;
};

/// Everything that is said when a sample with these changes is opened, listed and read to its end, and again
/// when it is opened as the format that it has without them (of fuzz/corpus: that its folder names); notes
/// what is read where that is asked for.
std::set<std::string> told_of_damage(const std::string& name, const Damage& changes, Reads* reads = nullptr);

}  // namespace operculum::test
