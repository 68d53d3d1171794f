#include "io/file_source.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "base/error.h"
#include "io/descriptor.h"
#include "io/kernel.h"

namespace operculum {
namespace {

class FileSource final : public Source {
 public:
  FileSource(Descriptor file, std::uint64_t size) : file_(std::move(file)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t done = 0;
    while (done < out.size() && offset + done < size_) {
      ssize_t count = kernel::pread(file_.number(), out.data() + done, out.size() - done,
                                    static_cast<off_t>(offset + done));
      if (count < 0 && errno == EINTR) continue;
      if (count < 0) throw IoError(fmt::format("reading at offset {} failed", offset + done), errno);
      if (count == 0) break;
      done += static_cast<std::size_t>(count);
    }
    return done;
  }

  int descriptor() const override { return file_.number(); }

  std::uint64_t hole_at(std::uint64_t offset) const override {
    if (offset >= size_) return 0;
    off_t data =
        lseek(file_.number(), static_cast<off_t>(offset), SEEK_DATA);  // all reads state their offset
    if (data < 0 && errno == ENXIO) {  // a hole at the end; or the file became shorter, which is none
      struct stat status {};
      bool there = fstat(file_.number(), &status) == 0 && static_cast<std::uint64_t>(status.st_size) >= size_;
      return there ? size_ - offset : 0;
    }
    if (data < 0) return 0;
    return static_cast<std::uint64_t>(data) - offset;
  }

 private:
  Descriptor file_;
  std::uint64_t size_;
};

}  // namespace

SourcePtr open_file(const std::string& path) {
  Descriptor file(kernel::open(path.c_str(), O_RDONLY | O_NONBLOCK));  // a fifo must not block the open
  if (!file) throw IoError("cannot open the file", errno);
  struct stat status {};
  if (kernel::fstat(file.number(), &status) != 0) throw IoError("cannot read the file's size", errno);
  if (S_ISDIR(status.st_mode)) throw IoError("cannot open the file", EISDIR);
  if (!S_ISREG(status.st_mode) && !S_ISBLK(status.st_mode)) {
    throw Unsupported("reading a pipe or character device; save it to a file first");
  }
  return make_file_source(std::move(file));
}

SourcePtr make_file_source(Descriptor file) {
  off_t size = lseek(file.number(), 0, SEEK_END);
  if (size < 0) throw IoError("cannot read the file's size", errno);
  return std::make_shared<FileSource>(std::move(file), static_cast<std::uint64_t>(size));
}

}  // namespace operculum
