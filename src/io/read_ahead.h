#pragma once

#include "io/stream.h"

namespace operculum {

/// A stream that is read on a thread of its own, a few blocks ahead, so that decoding and what is done with
/// the decoded bytes happen at the same time. Errors of the inner stream arrive in order, after the bytes
/// before them.
class ReadAheadStream : public Stream {
 public:
  /// Zeros that are stored nowhere, and the bytes behind them.
  struct Run {
    std::uint64_t hole = 0;
    ByteView bytes;
    bool ended() const { return hole == 0 && bytes.empty(); }
  };
  /// What comes next, without a copy, valid until the next call. Not together with read().
  virtual Run next_run() = 0;
};

std::unique_ptr<ReadAheadStream> make_read_ahead(StreamPtr inner);

}  // namespace operculum
