#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "base/bytes.h"

namespace operculum::study {

/// How often each byte comes at each place of a key that repeats.
class KeyCounts {
 public:
  explicit KeyCounts(std::size_t length) : seen_(length) {}

  /// Counts bytes of which the first one meets byte `from` of the key, as often as it repeats.
  void add(ByteView bytes, std::uint64_t from);

  struct Commonest {
    Bytes bytes;            ///< one for each place
    std::size_t count = 0;  ///< how often they come there, in all
  };
  Commonest commonest() const;

 private:
  std::vector<std::array<std::size_t, 256>> seen_;
};

}  // namespace operculum::study
