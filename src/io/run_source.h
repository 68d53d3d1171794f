#pragma once

#include "io/mapped_source.h"

namespace operculum {

/// A stretch of a mapped image.
struct ImageRun {
  std::uint64_t logical, length;  ///< bytes, in the image
  MappedRun::From from;
  std::uint64_t at = 0;      ///< stored and packed: where it begins in the container
  std::uint64_t packed = 0;  ///< packed: bytes there
  std::uint32_t tag = 0;     ///< packed: how, for whoever decodes it
};

/// A disk image that is described by a list of runs; what no run covers reads as zeros.
class RunSource final : public MappedSource {
 public:
  /// Decodes a packed run; may give a shorter pattern that is repeated. Throws Malformed.
  using Decode = std::function<Bytes(const ImageRun& run)>;

  /// The runs in any order; throws Malformed where they overlap or leave the image.
  RunSource(SourcePtr whole, std::uint64_t size, std::vector<ImageRun> runs, Decode decode);

 protected:
  MappedRun locate(std::uint64_t offset) const override;
  Bytes unpack(std::uint64_t index) const override { return decode_(runs_[static_cast<std::size_t>(index)]); }

 private:
  std::vector<ImageRun> runs_;
  Decode decode_;
};

}  // namespace operculum
