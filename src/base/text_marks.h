#pragma once

#include <cstddef>
#include <cstdint>
#include <string_view>
#include <vector>

namespace operculum {

/// Small numbers by text, for millions of texts: of each only a digest of 126 bits is kept, some thirty bytes
/// in all. Digests begin with a number drawn by chance, so that nobody can make two texts that have the same.
class TextMarks {
 public:
  using Mark = std::uint8_t;  ///< 1 to 3; 0 where there is none

  TextMarks();
  Mark find(std::string_view text) const;
  /// The mark that the text had; where it had none it gets this one.
  Mark mark(std::string_view text, Mark mark);

 private:
  /// A digest, with the mark in the lowest two bits; 0: empty.
  struct Slot {
    std::uint64_t low = 0, high = 0;
    Mark mark() const { return static_cast<Mark>(low & 3); }
  };
  Slot digest(std::string_view text) const;
  /// Where a digest is, or would be.
  std::size_t place_of(const Slot& wanted) const;
  void grow();

  std::uint64_t seed_;
  std::size_t used_ = 0;
  std::vector<Slot> slots_;  // a power of two of them, never full
};

}  // namespace operculum
