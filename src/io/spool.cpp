#include "io/spool.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>

#include "base/error.h"
#include "io/descriptor.h"

namespace operculum {
namespace {

constexpr std::size_t kBlock = 256 * 1024;

}  // namespace

/// Spooled bytes: a front part in memory, the rest in a temporary file.
class SpoolWriter::Spooled final : public Source {
 public:
  explicit Spooled(SpoolBudget& budget) : budget_(budget) {}
  ~Spooled() override {
    budget_.give_memory(memory_taken_);
    budget_.give_disk(file_size_);
  }

  void append(ByteView bytes) {
    if (!file_ && memory_.size() + bytes.size() > memory_taken_) grow();
    if (!file_) {
      memory_.insert(memory_.end(), bytes.begin(), bytes.end());
    } else {
      append_to_file(bytes);
    }
  }

  std::uint64_t size() const override { return memory_.size() + file_size_; }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t done = 0;
    if (offset < memory_.size() && !out.empty()) {
      done = std::min<std::size_t>(out.size(), memory_.size() - static_cast<std::size_t>(offset));
      std::memcpy(out.data(), memory_.data() + offset, done);
    }
    while (done < out.size() && offset + done < size()) {
      auto place = static_cast<off_t>(offset + done - memory_.size());
      ssize_t count = pread(file_.number(), out.data() + done, out.size() - done, place);
      if (count < 0 && errno == EINTR) continue;
      if (count < 0) throw IoError("reading the temporary file failed", errno);
      if (count == 0) break;
      done += static_cast<std::size_t>(count);
    }
    return done;
  }

  std::optional<ByteView> view() const override {
    if (file_) return std::nullopt;
    return memory_;
  }

 private:
  void grow() {
    std::uint64_t more = std::max<std::uint64_t>(memory_taken_, 4 * kBlock);
    if (budget_.take_memory(more)) {
      memory_taken_ += more;
      memory_.reserve(static_cast<std::size_t>(memory_taken_));
      return;
    }
    const char* folder = std::getenv("TMPDIR");
    if (folder == nullptr || *folder == '\0') folder = "/tmp";
    file_ = Descriptor(open(folder, O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
    if (!file_)
      throw IoError(std::string("cannot make a temporary file in ") + folder + " (set TMPDIR to another)",
                    errno);
  }

  void append_to_file(ByteView bytes) {
    if (!budget_.take_disk(bytes.size())) {
      throw LimitExceeded(
          "an inner container needs more temporary space than allowed; raise it with --max-spool");
    }
    file_size_ += bytes.size();
    while (!bytes.empty()) {
      ssize_t count = write(file_.number(), bytes.data(), bytes.size());
      if (count < 0 && errno == EINTR) continue;
      if (count < 0) throw IoError("writing the temporary file failed", errno);
      bytes = bytes.subspan(static_cast<std::size_t>(count));
    }
  }

  SpoolBudget& budget_;
  Bytes memory_;
  std::uint64_t memory_taken_ = 0;
  Descriptor file_;
  std::uint64_t file_size_ = 0;
};

SpoolWriter::SpoolWriter(SpoolBudget& budget)
    : budget_(budget), spooled_(std::make_shared<Spooled>(budget)) {}

SpoolWriter::~SpoolWriter() = default;

void SpoolWriter::append(ByteView bytes) {
  budget_.watch(bytes.size());
  spooled_->append(bytes);
}

std::uint64_t SpoolWriter::size() const {
  return spooled_->size();
}

SourcePtr SpoolWriter::finish() {
  return std::move(spooled_);
}

bool SpoolBudget::take(std::atomic<std::uint64_t>& left, std::uint64_t bytes) {
  std::uint64_t now = left.load();
  while (now >= bytes) {
    if (left.compare_exchange_weak(now, now - bytes)) return true;
  }
  return false;
}

SourcePtr SpooledRuns::in(const SourcePtr& spooled) const {
  bool one = runs.size() == 1 && runs[0].length == size;
  return one ? make_slice(spooled, runs[0].stored, size) : make_extent_source(spooled, runs, size);
}

SpooledRuns append_stream(SpoolWriter& writer, Stream& stream) {
  SpooledRuns out;
  Bytes block(kBlock);
  for (;;) {
    std::uint64_t hole = stream.skip_hole();
    out.size += hole;
    std::uint64_t stored = writer.size();
    std::size_t count = stream.read(block);
    if (count == 0 && hole == 0) return out;
    writer.append(ByteView(block).first(count));
    if (count == 0) continue;
    if (hole == 0 && !out.runs.empty()) {
      out.runs.back().length += count;
    } else {
      out.runs.push_back({out.size, stored, count});
    }
    out.size += count;
  }
}

SourcePtr spool(Stream& stream, SpoolBudget& budget) {
  SpoolWriter writer(budget);
  SpooledRuns runs = append_stream(writer, stream);
  SourcePtr spooled = writer.finish();
  return spooled->size() == runs.size ? spooled : runs.in(spooled);
}

SourcePtr random_access(const Content& content, SpoolBudget& budget) {
  if (SourcePtr source = content.source()) return source;
  return spool(*content.stream(), budget);
}

}  // namespace operculum
