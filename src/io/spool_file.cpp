#include "io/spool_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/error.h"
#include "base/text.h"
#include "io/kernel.h"

namespace operculum {

std::string temporary_folder() {
  const char* named = std::getenv("TMPDIR");
  return named == nullptr || *named == '\0' ? "/tmp" : named;
}

SpoolFile& SpoolFile::of_this_run() {
  static SpoolFile& file = *new SpoolFile;  // never ends: sources that use it may be the last things to go
  return file;
}

void SpoolFile::open_early() {
  std::lock_guard lock(mutex_);
  open_locked();
}

void SpoolFile::open_locked() {
  if (file_) return;
  folder_ = temporary_folder();
  file_ = Descriptor(kernel::open(folder_.c_str(), O_TMPFILE | O_RDWR, 0600));
  failure_ = file_ ? 0 : errno;
}

std::uint64_t SpoolFile::take_chunk() {
  std::lock_guard lock(mutex_);
  if (!file_ && failure_ == 0) open_locked();
  if (!file_) {
    throw IoError(fmt::format("cannot make a temporary file in {} (set TMPDIR to another)", escape(folder_)),
                  failure_);
  }
  if (!free_.empty()) {
    std::uint64_t chunk = free_.back();
    free_.pop_back();
    return chunk;
  }
  end_ += kChunk;
  return end_ - kChunk;
}

void SpoolFile::give_back(std::uint64_t chunk) {
  fallocate(file_.number(), FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, static_cast<off_t>(chunk),
            static_cast<off_t>(kChunk));
  std::lock_guard lock(mutex_);
  free_.push_back(chunk);
}

void SpoolFile::write(std::uint64_t at, ByteView bytes) {
  while (!bytes.empty()) {
    ssize_t count = kernel::pwrite(file_.number(), bytes.data(), bytes.size(), static_cast<off_t>(at));
    if (count < 0 && errno == EINTR) continue;
    if (count < 0) throw IoError("writing the temporary file failed", errno);
    at += static_cast<std::uint64_t>(count);
    bytes = bytes.subspan(static_cast<std::size_t>(count));
  }
}

std::size_t SpoolFile::read(std::uint64_t at, ByteSpan out) const {
  std::size_t done = 0;
  while (done < out.size()) {
    ssize_t count =
        kernel::pread(file_.number(), out.data() + done, out.size() - done, static_cast<off_t>(at + done));
    if (count < 0 && errno == EINTR) continue;
    if (count < 0) throw IoError("reading the temporary file failed", errno);
    if (count == 0) break;
    done += static_cast<std::size_t>(count);
  }
  return done;
}

}  // namespace operculum
