#pragma once

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "io/source.h"

namespace operculum::layout {

/// Bytes that a description reads from: the container, a file beside it, or what a decoder made of some part.
/// Keeps pages of what was read last, and reads ahead where one follows the other, so that small reads cost
/// little wherever they lie. Used by one thread at a time.
class Region {
 public:
  /// Where bytes lie that are a file's own, one for one.
  struct Origin {
    std::string file;  ///< the name of a file beside the container; empty: the container
    std::uint64_t at = 0;
  };

  Region(SourcePtr source, std::string name, std::optional<Origin> origin)
      : source_(std::move(source)),
        size_(source_->size()),
        name_(std::move(name)),
        origin_(std::move(origin)) {
    if (auto all = source_->view()) recent_ = *all;
  }

  std::uint64_t size() const { return size_; }
  const SourcePtr& source() const { return source_; }
  const std::string& name() const { return name_; }  ///< for messages; empty for the container itself

  /// Where this region's first byte lies, when its bytes are those of a file.
  const std::optional<Origin>& origin() const { return origin_; }

  /// Which offset a recorder is told for its first byte; nothing where it is not told of what is read here.
  std::optional<std::uint64_t> recorded_at;

  /// `count` bytes at `offset`, valid until the next call. Throws CutShort when the region ends before.
  ByteView at(std::uint64_t offset, std::uint64_t count) {
    std::uint64_t within =
        offset - recent_begin_;  // of the window used last, or of all where it lies in memory
    if (within <= recent_.size() && count <= recent_.size() - within) {
      return recent_.subspan(static_cast<std::size_t>(within), static_cast<std::size_t>(count));
    }
    return elsewhere(offset, count);
  }

 private:
  static constexpr std::size_t kPage = 4096, kPages = 2048, kAhead = 16;
  ByteView elsewhere(std::uint64_t offset, std::uint64_t count);
  void read_pages(std::uint64_t page);
  std::size_t place_of(std::uint64_t page) const;
  [[noreturn]] void fail(std::uint64_t offset, std::uint64_t count) const;

  SourcePtr source_;
  std::uint64_t size_;
  ByteView recent_;  // what at() looks in first, and where it begins
  std::uint64_t recent_begin_ = 0;
  std::string name_;
  std::optional<Origin> origin_;
  std::unique_ptr<Byte[]> pages_;    // in rows of kAhead, as they lie in the region; touched when it is read
  std::vector<std::uint64_t> held_;  // which page lies at each place
  std::array<std::uint64_t, 4>
      next_{};              // the pages behind those that were read last: of several runs in turn
  std::size_t oldest_ = 0;  // of those
  Bytes across_;            // a read that crosses what is held
};

}  // namespace operculum::layout
