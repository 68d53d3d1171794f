#include "format/firmware/memory_image.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

constexpr std::size_t kToldRanges = 16;

/// Hands out what there is, and then tells that it is not all.
class IncompleteStream final : public Stream {
 public:
  IncompleteStream(StreamPtr inner, std::string why) : inner_(std::move(inner)), why_(std::move(why)) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    if (count == 0) throw CutShort(why_);
    return count;
  }

 private:
  StreamPtr inner_;
  std::string why_;
};

class MemoryContainer final : public Container {
 public:
  MemoryContainer(MemoryFile file, bool ranges)
      : facts_(std::move(file.facts)), incomplete_(std::move(file.incomplete)) {
    if (!incomplete_.empty()) add_finding(Finding::Level::fault, incomplete_, Finding::About::entries);
    for (Finding& one : file.findings) add_finding(one.level, std::move(one.text));
    for (auto& [name, image] : file.images) {
      if (image.ranges().empty()) continue;
      if (image.overlaps())
        add_finding(Finding::Level::warning,
                    fmt::format("{}: some addresses are given twice; the last bytes count", escape(name)));
      for (const auto& range : image.ranges())
        writes_.push_back({place_text(range), range.bytes.size(), name});
      if (ranges) {
        add_ranges(name, image);
      } else {
        add_image(name, image);
      }
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    if (incomplete_.empty()) return make_content(sources_[index]);
    return make_content([source = sources_[index], why = incomplete_]() -> StreamPtr {
      return std::make_unique<IncompleteStream>(make_source_stream(source), why);
    });
  }
  Facts facts() override { return facts_; }

  /// What was written as text lies nowhere as it is.
  std::vector<Footprint> footprint(std::size_t) override { return {}; }

  bool installs() const override { return !writes_.empty(); }
  std::optional<Installation> installation() override {
    return writes_.empty() ? std::nullopt : std::optional(Installation{.writes = writes_});
  }

 private:
  void add(std::string path, SourcePtr source, std::uint64_t stored, std::string comment) {
    Entry entry;
    entry.path = std::move(path);
    entry.size = source->size();
    entry.stored_size = stored;
    if (stored < entry.size) entry.flags |= Entry::sparse;
    entry.extras().comment = std::move(comment);
    sources_.push_back(std::move(source));
    entries_.push_back(std::move(entry));
  }

  static std::string place_text(const MemoryImage::Range& range) {
    return fmt::format("{:#x} to {:#x}", range.address, range.address + range.bytes.size());
  }

  void add_image(const std::string& name, MemoryImage& image) {
    const auto& ranges = image.ranges();
    std::uint64_t begin = ranges.front().address, stored = 0;
    Bytes all;
    std::vector<Extent> extents;
    for (const auto& range : ranges) {
      extents.push_back({range.address - begin, all.size(), range.bytes.size()});
      all.insert(all.end(), range.bytes.begin(), range.bytes.end());
      stored += range.bytes.size();
      if (extents.size() <= kToldRanges)
        facts_.emplace_back("range",
                            fmt::format("{} ({} bytes)", place_text(range), grouped(range.bytes.size())));
    }
    if (extents.size() > kToldRanges)
      facts_.emplace_back("range", fmt::format("and {} more", extents.size() - kToldRanges));
    std::uint64_t size = extents.back().logical + extents.back().length;
    add(name, make_extent_source(make_memory_source(std::move(all)), std::move(extents), size), stored,
        fmt::format("from address {:#x}", begin));
  }

  void add_ranges(const std::string& name, MemoryImage& image) {
    for (const auto& range : image.ranges())
      add(fmt::format("{:08x}-{}", range.address, name), make_memory_source(range.bytes), range.bytes.size(),
          place_text(range));
  }

  Facts facts_;
  std::string incomplete_;
  std::vector<MemoryWrite> writes_;
  std::vector<SourcePtr> sources_;
  std::vector<Entry> entries_;
};

}  // namespace

void MemoryImage::add(std::uint64_t address, ByteView bytes) {
  if (bytes.empty()) return;
  total_ += bytes.size();
  if (total_ > kMostBytes) throw LimitExceeded("an image of more than 256 MiB as text");
  if (address > UINT64_MAX - bytes.size()) throw Malformed("an image that goes beyond the last address");
  if (!ranges_.empty()) {
    Range& last = ranges_.back();
    std::uint64_t end = last.address + last.bytes.size();
    if (end == address) {
      last.bytes.insert(last.bytes.end(), bytes.begin(), bytes.end());
      return;
    }
    if (address < end) sorted_ = false;
  }
  ranges_.push_back({address, Bytes(bytes.begin(), bytes.end())});
}

const std::vector<MemoryImage::Range>& MemoryImage::ranges() {
  if (sorted_) return ranges_;
  // What comes later replaces what was there: the later range is cut out of the earlier ones.
  std::map<std::uint64_t, Bytes> placed;
  auto cut_out = [&](std::uint64_t begin, std::uint64_t end) {
    auto at = placed.upper_bound(begin);
    if (at != placed.begin()) --at;
    while (at != placed.end() && at->first < end) {
      std::uint64_t first = at->first, last = first + at->second.size();
      if (last <= begin) {
        ++at;
        continue;
      }
      overlaps_ = true;
      Bytes old = std::move(at->second);
      at = placed.erase(at);
      if (first < begin)
        placed[first] = Bytes(old.begin(), old.begin() + static_cast<std::ptrdiff_t>(begin - first));
      if (last > end) placed[end] = Bytes(old.end() - static_cast<std::ptrdiff_t>(last - end), old.end());
    }
  };
  for (Range& range : ranges_) {
    cut_out(range.address, range.address + range.bytes.size());
    placed[range.address] = std::move(range.bytes);
  }
  ranges_.clear();
  for (auto& [address, bytes] : placed) {
    if (!ranges_.empty() && ranges_.back().address + ranges_.back().bytes.size() == address) {
      ranges_.back().bytes.insert(ranges_.back().bytes.end(), bytes.begin(), bytes.end());
    } else {
      ranges_.push_back({address, std::move(bytes)});
    }
  }
  sorted_ = true;
  return ranges_;
}

ContainerPtr make_memory_file(MemoryFile file, const OpenContext& context) {
  return std::make_shared<MemoryContainer>(std::move(file), context.view == kRangesView);
}

}  // namespace operculum
