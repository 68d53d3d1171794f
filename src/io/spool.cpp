#include "io/spool.h"

#include <cstring>

#include "base/error.h"
#include "io/spool_file.h"

namespace operculum {
namespace {

constexpr std::size_t kSpoolBlock = 256 * 1024;

}  // namespace

/// Spooled bytes: a front part in memory, the rest in chunks of the temporary file.
class SpoolWriter::Spooled final : public Source {
 public:
  explicit Spooled(SpoolBudget& budget) : budget_(budget) {}
  ~Spooled() override {
    budget_.give_memory(memory_taken_);
    budget_.give_disk(file_size_);
    for (std::uint64_t chunk : chunks_) SpoolFile::of_this_run().give_back(chunk);
  }

  void append(ByteView bytes) {
    if (!in_file_ && memory_.size() + bytes.size() > memory_taken_) grow();
    if (!in_file_) {
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
      Part part = part_at(offset + done - memory_.size(), out.size() - done);
      std::uint64_t left = size() - (offset + done);
      std::size_t length = static_cast<std::size_t>(std::min<std::uint64_t>(part.length, left));
      std::size_t count = SpoolFile::of_this_run().read(part.at, out.subspan(done, length));
      if (count == 0) break;
      done += count;
    }
    return done;
  }

  std::optional<ByteView> view() const override {
    if (in_file_) return std::nullopt;
    return memory_;
  }

 private:
  /// Bytes that lie together in the temporary file.
  struct Part {
    std::uint64_t at;
    std::size_t length;
  };

  /// The part that begins `place` bytes into what is in the file, of `wanted` bytes at most.
  Part part_at(std::uint64_t place, std::size_t wanted) const {
    std::uint64_t within = place % SpoolFile::kChunk;
    return {chunks_[static_cast<std::size_t>(place / SpoolFile::kChunk)] + within,
            static_cast<std::size_t>(std::min<std::uint64_t>(wanted, SpoolFile::kChunk - within))};
  }

  void grow() {
    std::uint64_t more = std::max<std::uint64_t>(memory_taken_, 4 * kSpoolBlock);
    if (!budget_.take_memory(more)) {
      in_file_ = true;
      return;
    }
    memory_taken_ += more;
    memory_.reserve(static_cast<std::size_t>(memory_taken_));
  }

  void append_to_file(ByteView bytes) {
    if (!budget_.take_disk(bytes.size())) {
      throw LimitExceeded(
          "an inner container needs more temporary space than allowed; raise it with --max-spool");
    }
    SpoolFile& file = SpoolFile::of_this_run();
    while (!bytes.empty()) {
      if (file_size_ == chunks_.size() * SpoolFile::kChunk) chunks_.push_back(file.take_chunk());
      Part part = part_at(file_size_, bytes.size());
      file.write(part.at, bytes.first(part.length));
      file_size_ += part.length;
      bytes = bytes.subspan(part.length);
    }
  }

  SpoolBudget& budget_;
  Bytes memory_;
  std::uint64_t memory_taken_ = 0;
  bool in_file_ = false;
  std::vector<std::uint64_t> chunks_;
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
  Bytes block(kSpoolBlock);
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
