#pragma once

#include <atomic>
#include <functional>

#include "io/extent_source.h"
#include "io/stream.h"

namespace operculum {

/// One budget, in bytes, for everything that is spooled at the same time. What fits stays in memory; the rest
/// goes to unnamed temporary files. Must outlive the sources made with it. Safe to share between threads.
class SpoolBudget {
 public:
  explicit SpoolBudget(std::uint64_t memory = 64 << 20, std::uint64_t disk = std::uint64_t{64} << 30)
      : memory_(memory), disk_(disk) {}
  void set_disk(std::uint64_t bytes) { disk_ = bytes; }  ///< before anything is spooled
  /// Called with the number of bytes before they are spooled; may throw to end the run.
  void set_watch(std::function<void(std::uint64_t bytes)> watch) { watch_ = std::move(watch); }
  void watch(std::uint64_t bytes) const {
    if (watch_) watch_(bytes);
  }
  bool take_memory(std::uint64_t bytes) { return take(memory_, bytes); }
  bool take_disk(std::uint64_t bytes) { return take(disk_, bytes); }
  void give_memory(std::uint64_t bytes) { memory_ += bytes; }
  void give_disk(std::uint64_t bytes) { disk_ += bytes; }

 private:
  static bool take(std::atomic<std::uint64_t>& left, std::uint64_t bytes);
  std::atomic<std::uint64_t> memory_, disk_;
  std::function<void(std::uint64_t)> watch_;
};

/// Makes a stream's bytes randomly accessible: in memory while the budget lasts, then in an unnamed temporary
/// file below $TMPDIR that vanishes with the source; holes stay holes. Throws LimitExceeded when the disk
/// budget is used up.
SourcePtr spool(Stream& stream, SpoolBudget& budget);

/// Spools bytes that arrive piece by piece.
class SpoolWriter {
 public:
  explicit SpoolWriter(SpoolBudget& budget);
  ~SpoolWriter();
  SpoolWriter(const SpoolWriter&) = delete;
  SpoolWriter& operator=(const SpoolWriter&) = delete;

  void append(ByteView bytes);  ///< throws LimitExceeded, IoError
  std::uint64_t size() const;   ///< so far
  SourcePtr finish();           ///< once, when all is appended

 private:
  class Spooled;
  SpoolBudget& budget_;
  std::shared_ptr<Spooled> spooled_;
};

/// What one stream left in a writer that takes several: where its bytes lie, and between them its holes,
/// which take no room.
struct SpooledRuns {
  std::vector<Extent> runs;
  std::uint64_t size = 0;  ///< with holes, in bytes

  SourcePtr in(const SourcePtr& spooled) const;  ///< the stream's bytes again, of what finish() gave
};
/// Throws what the stream and the writer throw.
SpooledRuns append_stream(SpoolWriter& writer, Stream& stream);

/// The content's own random access where it has it, else spooled.
SourcePtr random_access(const Content& content, SpoolBudget& budget);

}  // namespace operculum
