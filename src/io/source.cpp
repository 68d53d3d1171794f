#include "io/source.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <utility>

#include "base/checked.h"
#include "io/flatten.h"

namespace operculum {
namespace {

class MemorySource final : public Source {
 public:
  explicit MemorySource(Bytes bytes) : bytes_(std::move(bytes)) {}
  std::uint64_t size() const override { return bytes_.size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= bytes_.size()) return 0;
    std::size_t count = std::min<std::size_t>(out.size(), bytes_.size() - static_cast<std::size_t>(offset));
    if (count > 0) std::memcpy(out.data(), bytes_.data() + offset, count);
    return count;
  }
  std::optional<ByteView> view() const override { return bytes_; }

 private:
  Bytes bytes_;
};

class SliceSource final : public Source {
 public:
  SliceSource(SourcePtr whole, std::uint64_t begin, std::uint64_t size)
      : whole_(std::move(whole)), begin_(begin), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= size_) return 0;
    auto count = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size_ - offset));
    return whole_->read_at(begin_ + offset, out.first(count));
  }
  std::uint64_t hole_at(std::uint64_t offset) const override {
    return offset >= size_ ? 0 : std::min(whole_->hole_at(begin_ + offset), size_ - offset);
  }
  std::optional<ByteView> view() const override {
    auto all = whole_->view();
    if (!all) return std::nullopt;
    return all->subspan(static_cast<std::size_t>(begin_), static_cast<std::size_t>(size_));
  }
  std::uint64_t grain() const override { return whole_->grain(); }
  std::optional<SourceRun> origin_at(std::uint64_t offset) const override {
    if (offset >= size_) return std::nullopt;
    return SourceRun{whole_.get(), begin_ + offset, size_ - offset};
  }
  const SourcePtr& whole() const { return whole_; }
  std::uint64_t begin() const { return begin_; }

 private:
  SourcePtr whole_;
  std::uint64_t begin_, size_;
};

class JoinedSource final : public Source {
 public:
  explicit JoinedSource(std::vector<SourcePtr> parts) : parts_(std::move(parts)) {
    for (const SourcePtr& part : parts_) {
      begins_.push_back(size_);
      size_ = checked_add(size_, part->size(), "the size of the joined parts");
    }
  }
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t done = 0;
    while (done < out.size() && offset + done < size_) {
      std::size_t index = part_at(offset + done);
      std::size_t count = parts_[index]->read_at(offset + done - begins_[index], out.subspan(done));
      if (count == 0) break;
      done += count;
    }
    return done;
  }
  std::uint64_t hole_at(std::uint64_t offset) const override {
    if (offset >= size_) return 0;
    std::size_t index = part_at(offset);
    return parts_[index]->hole_at(offset - begins_[index]);
  }
  std::optional<SourceRun> origin_at(std::uint64_t offset) const override {
    if (offset >= size_) return std::nullopt;
    std::size_t index = part_at(offset);
    std::uint64_t at = offset - begins_[index];
    return SourceRun{parts_[index].get(), at, parts_[index]->size() - at};
  }
  std::uint64_t grain() const override {
    std::uint64_t most = 0;
    for (const SourcePtr& part : parts_) most = std::max(most, part->grain());
    return most;
  }

  /// The part that holds the byte at `offset`.
  std::size_t part_at(std::uint64_t offset) const {
    auto above = std::upper_bound(begins_.begin(), begins_.end(), offset);
    return static_cast<std::size_t>(above - begins_.begin()) - 1;
  }
  std::uint64_t begin_of(std::size_t part) const { return begins_[part]; }
  const std::vector<SourcePtr>& parts() const { return parts_; }

 private:
  std::vector<SourcePtr> parts_;
  std::vector<std::uint64_t> begins_;
  std::uint64_t size_ = 0;
};

/// Collects where bytes lie in the end.
class Flattening {
 public:
  void add(const SourcePtr& source, std::uint64_t at, std::uint64_t length) {
    if (length == 0) return;
    if (auto slice = dynamic_cast<const SliceSource*>(source.get()))
      return add(slice->whole(), slice->begin() + at, length);
    if (auto joined = dynamic_cast<const JoinedSource*>(source.get())) {
      std::size_t part = joined->part_at(at);
      std::uint64_t within = at - joined->begin_of(part);
      for (; length > 0; ++part, within = 0) {
        std::uint64_t count = std::min(length, joined->parts()[part]->size() - within);
        add(joined->parts()[part], within, count);
        length -= count;
      }
      return;
    }
    add_leaf(source, at, length);
  }

  SourcePtr finish() {
    close();
    return parts_.size() == 1 ? parts_.front() : make_joined(std::move(parts_));
  }

 private:
  void add_leaf(const SourcePtr& source, std::uint64_t at, std::uint64_t length) {
    constexpr std::uint64_t kShort = 256;  // bytes
    if (length <= kShort && dynamic_cast<const MemorySource*>(source.get()) != nullptr) {
      if (run_) close();
      Bytes bytes = read_up_to(*source, at, length);
      short_ones_.insert(short_ones_.end(), bytes.begin(), bytes.end());
      return;
    }
    if (run_ == source && at == at_ + length_) {
      length_ += length;
      return;
    }
    close();
    run_ = source;
    at_ = at;
    length_ = length;
  }

  void close() {
    if (run_) parts_.push_back(make_slice(run_, at_, length_));
    if (!short_ones_.empty()) parts_.push_back(make_memory_source(std::exchange(short_ones_, {})));
    run_ = nullptr;
  }

  std::vector<SourcePtr> parts_;
  SourcePtr run_;
  std::uint64_t at_ = 0, length_ = 0;
  Bytes short_ones_;
};

}  // namespace

SourcePtr flattened(const SourcePtr& source) {
  Flattening out;
  out.add(source, 0, source->size());
  return out.finish();
}

Bytes read_up_to(const Source& source, std::uint64_t offset, std::uint64_t count) {
  std::uint64_t there = offset < source.size() ? source.size() - offset : 0;
  Bytes bytes(static_cast<std::size_t>(std::min(count, there)));
  bytes.resize(source.read_at(offset, bytes));
  return bytes;
}

Bytes read_exactly(const Source& source, std::uint64_t offset, std::uint64_t count, std::string_view what) {
  Bytes bytes = read_up_to(source, offset, count);
  if (bytes.size() < count) {
    throw CutShort(fmt::format("{} at offset {}: expected {} bytes, found {}; the file may be cut short",
                               what, offset, count, bytes.size()));
  }
  return bytes;
}

std::uint64_t end_of_data(const Source& source) {
  std::uint64_t low = 0, high = source.size();  // the hole begins between them
  while (low < high) {
    std::uint64_t middle = low + (high - low) / 2;
    if (source.hole_at(middle) == source.size() - middle) {
      high = middle;
    } else {
      low = middle + 1;
    }
  }
  return high;
}

SourceRun follow(const Source& source, std::uint64_t offset, const Source& base) {
  SourceRun run{&source, offset, source.size() - offset};
  while (run.source != &base) {
    auto further = run.source->origin_at(run.at);
    if (!further || further->length == 0) return run;
    run = {further->source, further->at, std::min(run.length, further->length)};
  }
  return run;
}

std::optional<SourceRun> trace(const Source& source, std::uint64_t offset, const Source& base) {
  if (offset >= source.size()) return std::nullopt;
  SourceRun run = follow(source, offset, base);
  return run.source == &base ? std::optional(run) : std::nullopt;
}

SourcePtr make_memory_source(Bytes bytes) {
  return std::make_shared<MemorySource>(std::move(bytes));
}

SourcePtr make_slice(SourcePtr whole, std::uint64_t offset, std::uint64_t length) {
  std::uint64_t begin = std::min(offset, whole->size());
  std::uint64_t size = std::min(length, whole->size() - begin);
  if (begin == 0 && size == whole->size()) return whole;
  if (auto* slice = dynamic_cast<const SliceSource*>(whole.get())) {
    return std::make_shared<SliceSource>(slice->whole(), slice->begin() + begin, size);
  }
  return std::make_shared<SliceSource>(std::move(whole), begin, size);
}

SourcePtr make_joined(std::vector<SourcePtr> parts) {
  return std::make_shared<JoinedSource>(std::move(parts));
}

}  // namespace operculum
