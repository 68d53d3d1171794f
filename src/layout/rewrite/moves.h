#pragma once

#include <cstdint>
#include <vector>

#include "layout/rewrite/described_rewrite.h"
#include "layout/run/recorder.h"

namespace operculum::layout {

/// Bytes that are put in, or go, in front of an offset of the old file.
struct Insert {
  std::uint64_t at;      ///< what lies from here on moves
  std::uint64_t inside;  ///< the first byte of what grows
  std::uint64_t end;     ///< of its old bytes
  std::int64_t delta;
  std::int64_t exact;  ///< without what fills up
};

/// Where everything lies when bytes have been put in and have gone.
class Moves {
 public:
  explicit Moves(const DescribedFile& file) : file_(file) {}  ///< which must outlive it

  void add(const Insert& insert) { inserts_.push_back(insert); }
  bool empty() const { return inserts_.empty(); }

  /// Where a byte of the old file, or of what is laid open behind it, lies in the new one.
  std::uint64_t moved(std::uint64_t at) const;
  /// By how much a part that is laid open moves with all that is in it; 0 in the file.
  std::int64_t shift_of_part(std::uint64_t at) const;
  /// By how much a byte moves within the file, or within its part.
  std::int64_t shift_of(std::uint64_t at) const;
  /// By how much a part that a size bounds grows.
  std::int64_t growth_of(const RangeRead& part) const;
  /// The parts that are laid open, when so many bytes come to the end of the file beside.
  std::vector<OpenedPart> parts(std::uint64_t appended) const;

 private:
  const DescribedFile& file_;
  std::vector<Insert> inserts_;
};

}  // namespace operculum::layout
