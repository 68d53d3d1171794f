#include "io/assembly.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

constexpr std::size_t kSmall = 64 * 1024;     // new bytes are collected up to here
constexpr std::size_t kBuffer = 1024 * 1024;  // bytes copied at a time where the kernel does not
constexpr std::uint64_t kStep = 64 << 20;     // bytes between two looks at `watch`

/// The descriptor and the place in its file of a run's bytes, where they lie in a file as they are.
std::optional<SourceRun> in_file(const Source& source, std::uint64_t at) {
  SourceRun run{&source, at, source.size() - at};
  while (run.source->descriptor() < 0) {
    auto further = run.source->origin_at(run.at);
    if (!further || further->length == 0) return std::nullopt;
    run = {further->source, further->at, std::min(run.length, further->length)};
  }
  return run;
}

class Writer {
 public:
  Writer(OutputFile& out, const std::function<void(std::uint64_t)>& watch) : out_(out), watch_(watch) {}

  void write(const Assembly::Run& run) {
    std::uint64_t done = 0;
    while (done < run.length) {
      std::uint64_t step = write_step(*run.source, run.at + done, std::min(kStep, run.length - done));
      if (step == 0) {
        throw CutShort(fmt::format("expected {} bytes from offset {} on, found {}; the file became shorter",
                                   run.length, run.at, done));
      }
      done += step;
      total_ += step;
      watch_(total_);
    }
  }

 private:
  std::uint64_t write_step(const Source& source, std::uint64_t at, std::uint64_t length) {
    if (std::uint64_t hole = std::min(source.hole_at(at), length); hole > 0) {
      out_.write_hole(hole);
      return hole;
    }
    if (auto run = in_file(source, at)) {
      std::uint64_t copied =
          out_.copy_from(run->source->descriptor(), run->at, std::min(length, run->length));
      if (copied > 0) return copied;
    }
    buffer_.resize(kBuffer);
    ByteSpan part =
        ByteSpan(buffer_).first(static_cast<std::size_t>(std::min<std::uint64_t>(kBuffer, length)));
    std::size_t count = source.read_at(at, part);
    out_.write(part.first(count));
    return count;
  }

  OutputFile& out_;
  const std::function<void(std::uint64_t)>& watch_;
  Bytes buffer_;
  std::uint64_t total_ = 0;
};

}  // namespace

void Assembly::add(const SourcePtr& source, std::uint64_t at, std::uint64_t length) {
  if (length == 0) return;
  if (std::uint64_t size = source->size(); at > size || length > size - at)
    throw CutShort(fmt::format(
        "{} bytes from {} on are to be kept, but the file ends after {}; it is cut short", length, at, size));
  close_pending();
  size_ += length;
  if (!runs_.empty() && runs_.back().source == source && runs_.back().at + runs_.back().length == at) {
    runs_.back().length += length;
  } else {
    runs_.push_back({source, at, length});
  }
}

void Assembly::add(Bytes bytes) {
  size_ += bytes.size();
  pending_.insert(pending_.end(), bytes.begin(), bytes.end());
  if (pending_.size() >= kSmall) close_pending();
}

void Assembly::add(const Assembly& other) {
  for (const Run& run : other.runs()) add(run.source, run.at, run.length);
}

void Assembly::add_zeros(std::uint64_t length) {
  if (length <= kSmall) return add(Bytes(static_cast<std::size_t>(length)));
  add(make_extent_source(make_memory_source({}), {}, length));
}

void Assembly::close_pending() {
  if (pending_.empty()) return;
  std::uint64_t length = pending_.size();
  runs_.push_back({make_memory_source(std::move(pending_)), 0, length});
  pending_ = {};
}

std::vector<Assembly::Run> Assembly::runs() const {
  std::vector<Run> all = runs_;
  if (!pending_.empty()) all.push_back({make_memory_source(pending_), 0, pending_.size()});
  return all;
}

std::uint64_t Assembly::kept_of(const Source& source) const {
  std::uint64_t kept = 0;
  for (const Run& run : runs()) {
    for (std::uint64_t done = 0; done < run.length;) {
      SourceRun part = follow(*run.source, run.at + done, source);
      std::uint64_t length = std::min(part.length, run.length - done);
      if (part.source == &source) kept += length;
      done += length;
    }
  }
  return kept;
}

SourcePtr Assembly::source() const {
  std::vector<Run> all = runs();
  if (all.size() == 1 && all[0].length == all[0].source->size()) return all[0].source;
  std::vector<SourcePtr> parts;
  parts.reserve(all.size());
  for (const Run& run : all) parts.push_back(make_slice(run.source, run.at, run.length));
  return make_joined(std::move(parts));  // of one part, too: what is cut out of it is traced to it
}

void write_assembly(const Assembly& assembly, OutputFile& out,
                    const std::function<void(std::uint64_t)>& watch) {
  Writer writer(out, watch);
  for (const Assembly::Run& run : assembly.runs()) writer.write(run);
}

}  // namespace operculum
