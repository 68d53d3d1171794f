#pragma once

#include "io/source.h"

namespace operculum {

/// Bytes that can only be had as whole units, such as the sectors of an encrypted disk: who wants a part of
/// one has all of it read.
class AlignedSource : public Source {
 public:
  /// `unit` in bytes; no more than `most` units are read at once.
  explicit AlignedSource(std::size_t unit, std::size_t most = SIZE_MAX) : unit_(unit), most_(most) {}
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const final;

 protected:
  /// Fills `out`, which is whole units from the one at `offset` on. Throws Malformed.
  virtual void read_units(std::uint64_t offset, ByteSpan out) const = 0;
  std::size_t unit() const { return unit_; }

 private:
  std::size_t unit_, most_;
};

}  // namespace operculum
