#include "cli/output.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <utility>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "io/kernel.h"

namespace operculum::cli {
namespace {
constexpr std::size_t kBuffer = 256 * 1024;
}

Output::~Output() {
  try {
    if (file_) {
      if (named_) unlink(path_.c_str());  // never finished
    } else {
      flush();
    }
  } catch (const Error&) {
    // main() flushes and tells; here nothing is left to do
  }
}

void Output::open(const std::string& path) {
  path_ = path;
  auto fail = [&](int error) { throw IoError(fmt::format("cannot write {}", escape(path)), error); };
  struct stat status {};
  if (lstat(path.c_str(), &status) == 0) fail(EEXIST);
  file_ = Descriptor(kernel::open(folder_on_disk(path).c_str(), O_WRONLY | O_TMPFILE, 0666));
  if (file_) return;
  named_ = true;
  file_ = Descriptor(kernel::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL, 0666));
  if (!file_) fail(errno);
}

void Output::finish() {
  flush();
  if (!file_) return;
  if (!named_) {
    std::string own = fmt::format("/proc/self/fd/{}", file_.number());
    if (kernel::linkat(AT_FDCWD, own.c_str(), AT_FDCWD, path_.c_str(), AT_SYMLINK_FOLLOW) != 0)
      throw IoError(fmt::format("cannot write {}", escape(path_)), errno);
  }
  named_ = false;
  file_ = Descriptor();
}

char* Output::room(std::size_t count) {
  if (!buffer_) buffer_ = std::make_unique<char[]>(kBuffer);
  if (used_ + count > kBuffer) flush();
  return buffer_.get() + used_;
}

void Output::write_bytes(std::string_view text) {
  if (text.empty()) return;
  if (text.size() > kBuffer) {
    flush();
    return write_out(text);
  }
  std::memcpy(room(text.size()), text.data(), text.size());
  used_ += text.size();
}

void Output::write_line(std::string_view untrusted) {
  if (untrusted.size() >= kBuffer || !is_plain(untrusted)) return write_bytes(escape(untrusted) + '\n');
  char* to = room(untrusted.size() + 1);
  std::memcpy(to, untrusted.data(), untrusted.size());
  to[untrusted.size()] = '\n';
  used_ += untrusted.size() + 1;
}

void Output::flush() {
  write_out({buffer_.get(), std::exchange(used_, 0)});
}

void Output::write_out(std::string_view rest) {
  while (!rest.empty()) {
    ssize_t count = kernel::write(number(), rest.data(), rest.size());
    if (count < 0 && errno == EINTR) continue;
    if (count < 0 && errno == EPIPE) _exit(0);
    if (count < 0) throw IoError("cannot write the output", errno);
    rest.remove_prefix(static_cast<std::size_t>(count));
  }
}

bool Output::is_terminal() const {
  return isatty(number()) == 1;
}

std::size_t terminal_width(int descriptor) {
  constexpr std::size_t kUsual = 100;
  winsize size{};
  if (ioctl(descriptor, TIOCGWINSZ, &size) == 0 && size.ws_col > 0) return size.ws_col;
  const char* columns = std::getenv("COLUMNS");
  auto number = columns == nullptr ? std::nullopt : parse_number(columns);
  return number && *number > 0 && *number < 10000 ? static_cast<std::size_t>(*number) : kUsual;
}

bool colour_wanted(int descriptor) {
  const char* no_colour = std::getenv("NO_COLOR");
  return (no_colour == nullptr || *no_colour == '\0') && isatty(descriptor) == 1;
}

Shown styled(std::string_view untrusted, std::string_view sgr, bool wanted) {
  std::string text = printable(untrusted);
  return Shown::made(wanted ? fmt::format("\x1b[{}m{}\x1b[0m", sgr, text) : text);
}

}  // namespace operculum::cli
