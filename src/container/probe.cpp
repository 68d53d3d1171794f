#include "container/probe.h"

#include <algorithm>

namespace operculum {
namespace {
constexpr std::size_t kFirstRead = 8 * 1024;
}

Probe::Probe(SourcePtr source, std::string name) : source_(std::move(source)), name_(std::move(name)) {}

Probe::Probe(Bytes front, bool complete, std::string name)
    : head_(std::move(front)), complete_(complete), name_(std::move(name)) {}

ByteView Probe::head(std::size_t count) {
  count = std::min(count, kReach);
  if (source_ && head_.size() < count && head_.size() < source_->size()) {
    std::size_t wanted = count <= kFirstRead ? kFirstRead : kReach;
    head_ = read_up_to(*source_, 0, wanted);
  }
  return ByteView(head_).first(std::min(count, head_.size()));
}

ByteView Probe::tail(std::size_t count) {
  count = std::min(count, kReach);
  if (!source_) return complete_ ? ByteView(head_).last(std::min(count, head_.size())) : ByteView();
  count = static_cast<std::size_t>(std::min<std::uint64_t>(count, source_->size()));
  if (tail_.size() < count) tail_ = read_up_to(*source_, source_->size() - count, count);
  return ByteView(tail_).last(std::min(count, tail_.size()));
}

Bytes Probe::at(std::uint64_t offset, std::size_t count) {
  count = std::min(count, kReach);
  bool seen = offset < head_.size() && count <= head_.size() - offset;  // nothing is read twice
  if (source_ && !seen) return read_up_to(*source_, offset, count);
  if (offset >= head_.size()) return {};
  ByteView part = ByteView(head_).subspan(static_cast<std::size_t>(offset));
  part = part.first(std::min(count, part.size()));
  return Bytes(part.begin(), part.end());
}

std::optional<std::uint64_t> Probe::size() const {
  if (source_) return source_->size();
  if (complete_) return head_.size();
  return std::nullopt;
}

}  // namespace operculum
