#pragma once

#include <functional>
#include <memory>

#include "io/source.h"

namespace operculum {

/// Bytes read once, forwards: what a decoder yields. Not shared between threads.
class Stream {
 public:
  virtual ~Stream() = default;

  /// Fills the front of `out` (not empty) and returns how many bytes; 0 only at the end. Throws Malformed on
  /// damage and where the data does not fit its checksum, after every byte that could be decoded has been
  /// handed out.
  virtual std::size_t read(ByteSpan out) = 0;

  /// Passes over up to `count` bytes; returns how many there were.
  virtual std::uint64_t skip(std::uint64_t count);

  /// Passes over zeros that begin here and are stored nowhere (a hole); returns how many, 0 where there are
  /// none. Whoever does not ask reads the zeros.
  virtual std::uint64_t skip_hole() { return 0; }
};

using StreamPtr = std::unique_ptr<Stream>;

/// Reads until `out` is full or the stream ends.
std::size_t read_fully(Stream& stream, ByteSpan out);

/// Everything that is left, up to `limit` bytes; throws LimitExceeded beyond it.
Bytes read_all(Stream& stream, std::uint64_t limit);

/// The source's bytes from `offset` on, `length` at most.
StreamPtr make_source_stream(SourcePtr source, std::uint64_t offset = 0, std::uint64_t length = UINT64_MAX);

/// Owns nothing: lets a stream be wrapped by others that want to own theirs. `inner` must outlive it.
StreamPtr make_borrowed(Stream& inner);

/// Bytes repeatable from the start: the data of an entry. `source()` is there where random access is cheap.
/// Safe to share between threads.
class Content {
 public:
  virtual ~Content() = default;
  virtual StreamPtr stream() const = 0;                 ///< a new stream, from the first byte
  virtual SourcePtr source() const { return nullptr; }  ///< random access, where cheap
};

using ContentPtr = std::shared_ptr<const Content>;

ContentPtr make_content(SourcePtr source);
ContentPtr make_content(std::function<StreamPtr()> open_stream);

}  // namespace operculum
