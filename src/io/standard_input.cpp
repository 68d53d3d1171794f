#include "io/standard_input.h"

#include <unistd.h>

#include <cerrno>
#include <mutex>

#include "base/error.h"
#include "io/kernel.h"
#include "io/spool.h"

namespace operculum {
namespace {

/// What a pipe gives, as it comes.
class InputStream final : public Stream {
 public:
  std::size_t read(ByteSpan out) override {
    for (;;) {
      ssize_t count = kernel::read(STDIN_FILENO, out.data(), out.size());
      if (count >= 0) return static_cast<std::size_t>(count);
      if (errno != EINTR) throw IoError("standard input", errno);
    }
  }
};

}  // namespace

StreamPtr standard_input_stream() {
  if (isatty(STDIN_FILENO) == 1)
    throw Error(ErrorKind::io, "standard input is the terminal; send a file to it");
  return std::make_unique<InputStream>();
}

SourcePtr standard_input(std::uint64_t most_disk, StreamPtr begun) {
  static std::mutex mutex;
  static SpoolBudget budget;
  static SourcePtr kept;
  std::lock_guard lock(mutex);
  if (!kept) {
    budget.set_disk(most_disk);
    if (!begun) begun = standard_input_stream();
    kept = spool(*begun, budget);
  }
  return kept;
}

}  // namespace operculum
