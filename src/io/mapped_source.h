#pragma once

#include "io/block_cache.h"
#include "io/source.h"

namespace operculum {

/// Where a run of a mapped image's bytes comes from.
struct MappedRun {
  enum class From {
    stored,  ///< plain bytes of the container, from `at` on
    zeros,   ///< nowhere: it reads as zeros
    packed,  ///< a compressed block, known by the number `at`; the run begins `within` bytes into it
    parent,  ///< the image that this one is a difference to, at the same offset
  };
  From from;
  std::uint64_t length;  ///< bytes from the offset asked for; not 0
  std::uint64_t at = 0;
  std::uint64_t within = 0;
};

/// A disk image whose blocks lie anywhere in a container: every wrapper only tells where a byte is.
class MappedSource : public Source {
 public:
  /// `parent` may be null: then what it would hold reads as zeros.
  MappedSource(SourcePtr whole, std::uint64_t size, SourcePtr parent = nullptr)
      : whole_(std::move(whole)), size_(size), parent_(std::move(parent)) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override;
  std::uint64_t hole_at(std::uint64_t offset) const override;
  std::optional<SourceRun> origin_at(std::uint64_t offset) const override;

 protected:
  const Source& whole() const { return *whole_; }
  /// The run that begins at `offset`, which lies within the image. Throws Malformed where the map is broken.
  virtual MappedRun locate(std::uint64_t offset) const = 0;
  /// The bytes of a compressed block; fewer than the run is long are repeated. Throws Malformed.
  virtual Bytes unpack(std::uint64_t at) const;

 private:
  SourcePtr whole_;
  std::uint64_t size_;
  SourcePtr parent_;
  mutable BlockCache unpacked_{32 << 20};
};

}  // namespace operculum
