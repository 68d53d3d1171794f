#pragma once

#include "io/stream.h"

namespace operculum {

/// A stream that is read on a thread of its own, a few blocks ahead, so that decoding and what is done with
/// the decoded bytes happen at the same time. Errors of the inner stream arrive in order, after the bytes
/// before them.
class ReadAheadStream : public Stream {
 public:
  /// The next bytes without a copy, valid until the next call; empty at the end.
  virtual ByteView next_block() = 0;
};

std::unique_ptr<ReadAheadStream> make_read_ahead(StreamPtr inner);

}  // namespace operculum
