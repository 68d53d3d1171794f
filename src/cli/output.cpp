#include "cli/output.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/error.h"
#include "base/text.h"

namespace operculum::cli {
namespace {
constexpr std::size_t kBuffer = 256 * 1024;
}

Output::~Output() {
  try {
    flush();
  } catch (const Error&) {
    // main() flushes and tells; here nothing is left to do
  }
}

void Output::open(const std::string& path) {
  file_ = Descriptor(::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666));
  if (!file_) throw IoError(fmt::format("cannot write {}", escape(path)), errno);
}

void Output::write(std::string_view text) {
  buffer_ += text;
  if (buffer_.size() >= kBuffer) flush();
}

void Output::write_line(std::string_view untrusted) {
  if (is_plain(untrusted)) {
    buffer_ += untrusted;
  } else {
    buffer_ += escape(untrusted);
  }
  buffer_ += '\n';
  if (buffer_.size() >= kBuffer) flush();
}

void Output::flush() {
  std::string_view rest = buffer_;
  while (!rest.empty()) {
    ssize_t count = ::write(number(), rest.data(), rest.size());
    if (count < 0 && errno == EINTR) continue;
    if (count < 0 && errno == EPIPE) _exit(0);
    if (count < 0) {
      int error = errno;
      buffer_.clear();
      throw IoError("cannot write the output", error);
    }
    rest.remove_prefix(static_cast<std::size_t>(count));
  }
  buffer_.clear();
}

bool Output::is_terminal() const {
  return isatty(number()) == 1;
}

bool colour_wanted(int descriptor) {
  const char* no_colour = std::getenv("NO_COLOR");
  return (no_colour == nullptr || *no_colour == '\0') && isatty(descriptor) == 1;
}

std::string styled(std::string_view text, std::string_view sgr, bool wanted) {
  return wanted ? fmt::format("\x1b[{}m{}\x1b[0m", sgr, text) : std::string(text);
}

}  // namespace operculum::cli
