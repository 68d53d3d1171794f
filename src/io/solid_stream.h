#pragma once

#include <exception>
#include <functional>
#include <mutex>

#include "io/stream.h"

namespace operculum {

/// Many files packed as one stream, one after another. Whoever reads them in order decodes once: a reader
/// that ends is kept and goes on where it stood. Behind damage nothing is decoded again. Safe to share
/// between threads.
class SolidStream : public std::enable_shared_from_this<SolidStream> {
 public:
  using Open = std::function<StreamPtr()>;
  explicit SolidStream(Open open) : open_(std::move(open)) {}

  /// `length` bytes from `offset`, both in the unpacked stream; throws CutShort where that ends earlier.
  ContentPtr part(std::uint64_t offset, std::uint64_t length);

 private:
  class PartStream;
  struct Reader {
    StreamPtr stream;
    std::uint64_t at = 0;  // unpacked bytes read from it
  };

  Reader reader_for(std::uint64_t offset);
  void keep(Reader reader);
  void broken(std::uint64_t at, std::exception_ptr error);

  static constexpr std::size_t kKept = 2;

  Open open_;
  std::mutex mutex_;             // guards the rest
  std::vector<Reader> readers_;  // the one used last is at the end
  std::uint64_t broken_at_ = UINT64_MAX;
  std::exception_ptr error_;
};

}  // namespace operculum
