#include "format/image/cd_sectors.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"

namespace operculum {
namespace {

/// A part of each sector, joined. What is wanted of many sectors is read with them at once.
class SectorSource final : public Source {
 public:
  SectorSource(SourcePtr whole, std::size_t stride, std::size_t at, std::size_t length, bool swapped)
      : whole_(std::move(whole)), stride_(stride), at_(at), length_(length), swapped_(swapped) {}

  std::uint64_t size() const override { return whole_->size() / stride_ * length_; }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= size()) return 0;
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size() - offset)));
    constexpr std::size_t kAtOnce = 64;  // sectors
    Bytes raw;
    for (std::size_t done = 0; done < out.size();) {
      std::uint64_t sector = (offset + done) / length_;
      std::size_t within = static_cast<std::size_t>((offset + done) % length_);
      std::size_t count = std::min(kAtOnce, (within + out.size() - done + length_ - 1) / length_);
      raw.resize((count - 1) * stride_ + at_ + length_);
      if (whole_->read_at(sector * stride_, raw) < raw.size())
        throw CutShort(fmt::format("sector {} of the disc is cut short", sector));
      for (std::size_t i = 0; i < count && done < out.size(); ++i, within = 0) {
        std::size_t part = std::min(length_ - within, out.size() - done);
        copy(ByteView(raw).subspan(i * stride_ + at_, length_), within, out.subspan(done, part));
        done += part;
      }
    }
    return out.size();
  }

 private:
  void copy(ByteView sector, std::size_t from, ByteSpan out) const {
    if (!swapped_) {
      std::copy_n(sector.begin() + static_cast<std::ptrdiff_t>(from), out.size(), out.begin());
      return;
    }
    for (std::size_t i = 0; i < out.size(); ++i) out[i] = sector[(from + i) ^ 1];
  }

  SourcePtr whole_;
  std::size_t stride_, at_, length_;
  bool swapped_;
};

}  // namespace

SourcePtr make_user_data(SourcePtr whole, const SectorShape& shape) {
  return std::make_shared<SectorSource>(std::move(whole), shape.stride, shape.user_at, kUserData, false);
}

SourcePtr make_sound_data(SourcePtr whole, std::size_t stride, bool swapped) {
  return std::make_shared<SectorSource>(std::move(whole), stride, 0, kRawSector, swapped);
}

SectorShape shape_of_sectors(ByteView first, std::size_t stride) {
  constexpr std::size_t kModeAt = 15;
  if (first.size() <= kModeAt || !starts_with(first, kSectorSync))
    throw Malformed("the sectors of the disc lack their synchronisation");
  switch (first[kModeAt] & 3) {
    case 1:
      return {stride, 16};
    case 2:
      return {stride, 24};
    default:
      throw Malformed(fmt::format("sectors of mode {} hold no data", first[kModeAt] & 3));
  }
}

}  // namespace operculum
