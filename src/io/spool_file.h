#pragma once

#include <mutex>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "io/descriptor.h"

namespace operculum {

/// The folder for temporary files: $TMPDIR, else /tmp.
std::string temporary_folder();

/// The unnamed temporary file beneath $TMPDIR that everything spooled in a run shares, in chunks: one
/// descriptor however many spools there are, and one that can be opened before rights are given up. Safe to
/// share between threads.
class SpoolFile {
 public:
  static constexpr std::uint64_t kChunk = 4 << 20;  ///< bytes

  static SpoolFile& of_this_run();

  /// Opens it now, where it is not open. What is wrong is told when it is needed.
  void open_early();

  /// The offset of kChunk bytes that nobody else has. Throws IoError when there is no file.
  std::uint64_t take_chunk();
  void give_back(std::uint64_t chunk);  ///< its room on disk is free at once

  void write(std::uint64_t at, ByteView bytes);            ///< throws IoError
  std::size_t read(std::uint64_t at, ByteSpan out) const;  ///< what was written there; throws IoError

 private:
  void open_locked();

  mutable std::mutex mutex_;  // guards what follows, but not reading and writing
  Descriptor file_;
  int failure_ = 0;
  std::string folder_;
  std::uint64_t end_ = 0;
  std::vector<std::uint64_t> free_;
};

}  // namespace operculum
