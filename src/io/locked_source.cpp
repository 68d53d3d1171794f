#include "io/locked_source.h"

#include <mutex>

namespace operculum {
namespace {

class LockedSource final : public Source {
 public:
  LockedSource(std::uint64_t size, std::function<SourcePtr()> unlock)
      : size_(size), unlock_(std::move(unlock)) {}

  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    return open().read_at(offset, out);
  }
  std::uint64_t hole_at(std::uint64_t offset) const override { return open().hole_at(offset); }

 private:
  const Source& open() const {
    std::call_once(unlocked_, [this] { opened_ = unlock_(); });
    return *opened_;
  }

  std::uint64_t size_;
  std::function<SourcePtr()> unlock_;
  mutable std::once_flag unlocked_;
  mutable SourcePtr opened_;
};

}  // namespace

SourcePtr make_locked(std::uint64_t size, std::function<SourcePtr()> unlock) {
  return std::make_shared<LockedSource>(size, std::move(unlock));
}

}  // namespace operculum
