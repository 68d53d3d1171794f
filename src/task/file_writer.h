#pragma once

#include "container/limits.h"
#include "io/read_ahead.h"
#include "task/progress.h"
#include "task/unpack.h"

namespace operculum {

/// A file on its way to the disk.
struct FileJob {
  UnpackEvent event;  ///< kind, size, digest and message are filled in
  FileMetadata metadata;
  Existing existing;
  bool sparse;
  bool ours = false;  ///< what is replaced was written a moment ago
};

/// Writes entries as files: small ones are decoded and verified in memory before anything touches the disk,
/// large ones stream into a temporary file. Safe to share between threads.
class FileWriter {
 public:
  static constexpr std::size_t kSmallFile = 1 << 20;  ///< bytes

  FileWriter(OutputFolder& folder, const UnpackRequest& request, Meter& meter, Progress& progress)
      : folder_(folder), request_(request), meter_(meter), progress_(progress) {}

  /// Decodes `stream` to its end into the job's file. Throws the stream's errors, IoError and GuardTripped;
  /// the file then does not appear (with keep_damaged what came before the damage does, as NAME.damaged).
  void write(FileJob& job, Stream& stream);

  /// The first bytes of a stream that must be read now: all of it, verified, when `complete`.
  struct First {
    Bytes bytes;
    bool complete = false;
  };
  First read_first(Stream& stream, std::uint64_t expected) const;

  void write_rest(FileJob& job, ByteView first, Stream& rest);
  void write_large(FileJob& job, StreamPtr stream);  ///< decodes on a thread of its own while it writes
  void write_whole(FileJob& job, ByteView bytes);

 private:
  /// `next` gives the runs of the file, an ended one at its end.
  void write_runs(FileJob& job, const std::function<ReadAheadStream::Run()>& next);
  std::size_t fill(Stream& stream, std::uint64_t expected, Bytes& buffer) const;
  OutputFile begin(const FileJob& job) const;
  void put(OutputFile& out, const FileJob& job, ByteView bytes) const;
  void commit(OutputFile& out, FileJob& job) const;
  void count(const ReadAheadStream::Run& run);

  OutputFolder& folder_;
  const UnpackRequest& request_;
  Meter& meter_;
  Progress& progress_;
};

}  // namespace operculum
