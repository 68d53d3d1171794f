#pragma once

#include <condition_variable>
#include <exception>
#include <mutex>

#include "base/bytes.h"

namespace operculum {

/// Bytes that one thread sends while another reads them. What was sent and not read stays within kPipeBytes
/// and one send: the sender waits.
class BytePipe {
 public:
  /// Thrown by send() once nobody reads any more.
  struct NobodyReads {};

  void send(ByteView bytes);
  /// Nothing more will come; `error` is what ended it, if it did not end well.
  void end(std::exception_ptr error = nullptr);
  /// The sender need not go on.
  void abandon();

  /// Waits for the end or for more than `count` bytes; true at the end. Rethrows the error that ended it.
  bool ends_within(std::size_t count);
  /// 0 at the end. Rethrows the error that ended it, behind the bytes that were sent before.
  std::size_t read(ByteSpan out);

 private:
  std::mutex mutex_;  // guards all down to error_
  std::condition_variable changed_;
  Bytes waiting_;
  std::size_t unread_ = 0;  // sent and not read: what waits, and what the reader has left
  bool ended_ = false, abandoned_ = false;
  std::exception_ptr error_;
  Bytes current_;  // the reader's own
  std::size_t at_ = 0;
};

constexpr std::size_t kPipeBytes = 1 << 20;

}  // namespace operculum
