#pragma once

#include <optional>
#include <string>
#include <vector>

#include "io/stream.h"

namespace operculum {

/// What a recogniser may look at: the front and the end of some bytes, 256 KiB each at most, and a few fixed
/// places. Bytes that only a stream yields have a front alone. Reads lazily and keeps what it read.
class Probe {
 public:
  static constexpr std::size_t kReach = 256 * 1024;

  Probe(SourcePtr source, std::string name);

  /// The front of a stream's bytes; `complete` when the stream ended within them.
  Probe(Bytes front, bool complete, std::string name);

  ByteView head(std::size_t count);  ///< fewer when the bytes end before
  ByteView tail(std::size_t count);  ///< the last bytes; empty when only a front is there
  Bytes at(std::uint64_t offset,
           std::size_t count);                ///< anywhere; fewer where the bytes end or are out of reach
  std::optional<std::uint64_t> size() const;  ///< in bytes, where known
  const std::string& name() const { return name_; }
  const SourcePtr& source() const { return source_; }  ///< null when only a front is there

  /// Sentences of recognisers that do not claim the bytes although they begin like theirs, such as "it looks
  /// like a tide log, but line 7: ...". Told only when nobody claims them.
  const std::vector<std::string>& almost() const { return almost_; }
  void add_almost(std::string sentence) { almost_.push_back(std::move(sentence)); }

 private:
  SourcePtr source_;
  Bytes head_, tail_;
  bool complete_ = false;
  std::string name_;
  std::vector<std::string> almost_;
};

}  // namespace operculum
