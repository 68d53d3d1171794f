#pragma once

#include <map>

#include "io/assembly.h"

namespace operculum {

/// A source with other bytes at some places: for containers that are changed where they lie. Places must not
/// overlap, except for small pieces, which are put over each other.
class Patches {
 public:
  explicit Patches(SourcePtr base) : base_(std::move(base)) {}

  /// A few bytes, anywhere; pieces that were put there before may be changed again.
  void put(std::uint64_t at, ByteView bytes);
  /// `length` bytes of another source.
  void put(std::uint64_t at, SourcePtr source, std::uint64_t from, std::uint64_t length);
  void put_zeros(std::uint64_t at, std::uint64_t length);

  /// What is there by now, of what small pieces changed. Throws CutShort where nothing is.
  Bytes read(std::uint64_t at, std::size_t length) const;

  /// The whole, `size` bytes long: longer than the base when something was put behind its end. Throws
  /// Malformed where what was put lies over each other.
  Assembly assembly(std::uint64_t size) const;

 private:
  static constexpr std::uint64_t kBlock = 512;
  struct Run {
    SourcePtr source;  // null: zeros
    std::uint64_t from = 0, length = 0;
  };

  SourcePtr base_;
  std::map<std::uint64_t, Bytes> blocks_;  // by place, which is a multiple of kBlock
  std::map<std::uint64_t, Run> runs_;      // by place
};

}  // namespace operculum
