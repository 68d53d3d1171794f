#include "format/filesystem/btrfs_chunks.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure_fields.h"
#include "format/filesystem/btrfs_records.h"
#include "format/volume/raid_array.h"

namespace operculum::btrfs {
namespace {

/// Kinds of chunks (BTRFS_BLOCK_GROUP_*).
enum Profile : std::uint64_t {
  raid0_profile = 8,
  raid10_profile = 64,
  raid5_profile = 128,
  raid6_profile = 256
};
constexpr std::uint64_t kStriped = raid0_profile | raid10_profile | raid5_profile | raid6_profile;

/// The chunk's stripes as an array's members.
RaidShape shape_of(std::uint64_t profile, std::uint64_t stripe, std::uint64_t length, std::size_t members) {
  if ((profile & raid0_profile) != 0) return {0, 0, stripe, length / members};
  if ((profile & raid10_profile) != 0) {
    constexpr unsigned kTwoNear = 0x102;
    return {10, kTwoNear, stripe, length * 2 / members};
  }
  std::size_t parity = (profile & raid6_profile) != 0 ? 2 : 1;
  if (members <= parity)
    throw Malformed(fmt::format("btrfs chunk: {} stripes are too few for parity", members));
  return {parity == 2 ? 6 : 5, RaidShape::kForward, stripe, length / (members - parity)};
}

}  // namespace

void Chunks::add(std::uint64_t logical, ByteView item) {
  LittleFields f(item, "btrfs chunk");
  constexpr std::size_t kHead = size_on_disk<ChunkItem>, kStripe = size_on_disk<StripeRecord>;
  auto head = structure_at<ChunkItem>(f, 0);
  Chunk chunk{logical, head.length, {}};
  std::uint64_t profile = head.type;
  std::size_t count = head.num_stripes;
  if (chunk.length == 0 || chunk.logical + chunk.length < chunk.logical || count == 0)
    throw Malformed(fmt::format("btrfs chunk at {}: its length {} leads nowhere", logical, chunk.length));
  bool striped = (profile & kStriped) != 0 && count > 1;
  RaidShape shape = striped ? shape_of(profile, head.stripe_len, chunk.length, count) : RaidShape{};
  std::uint64_t each = striped ? shape.member_size : chunk.length;
  std::vector<SourcePtr> parts;
  for (std::size_t i = 0; i < count; ++i) {
    auto stripe = structure_at<StripeRecord>(f, kHead + i * kStripe);
    std::uint64_t physical = stripe.offset;
    if (physical + each < physical)
      throw Malformed(fmt::format("btrfs chunk at {}: its length {} leads nowhere", logical, chunk.length));
    auto device = devices_.find(stripe.devid);
    parts.push_back(device == devices_.end() ? nullptr : make_slice(device->second, physical, each));
  }
  chunk.copies =
      striped ? std::vector<SourcePtr>{make_raid_array(shape, std::move(parts))} : std::move(parts);
  auto place = std::upper_bound(chunks_.begin(), chunks_.end(), logical,
                                [](std::uint64_t at, const Chunk& one) { return at < one.logical; });
  chunks_.insert(place, std::move(chunk));
}

const Chunks::Chunk& Chunks::at(std::uint64_t logical) const {
  auto behind = std::upper_bound(chunks_.begin(), chunks_.end(), logical,
                                 [](std::uint64_t at, const Chunk& one) { return at < one.logical; });
  if (behind == chunks_.begin() || logical - (behind - 1)->logical >= (behind - 1)->length)
    throw Malformed(fmt::format("btrfs: no chunk covers the address {}", logical));
  return *(behind - 1);
}

std::size_t Chunks::copies(std::uint64_t logical) const {
  return at(logical).copies.size();
}

void Chunks::any_copy(std::uint64_t logical, const std::function<void(std::size_t)>& work) const {
  for (std::size_t copy = 0, count = copies(logical);; ++copy) {
    try {
      return work(copy);
    } catch (const Malformed&) {
      if (copy + 1 == count) throw;
    }
  }
}

void Chunks::read(std::uint64_t logical, ByteSpan out, std::size_t copy) const {
  while (!out.empty()) {
    const Chunk& chunk = at(logical);
    std::uint64_t within = logical - chunk.logical;
    ByteSpan part =
        out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), chunk.length - within)));
    const SourcePtr& source = chunk.copies[copy % chunk.copies.size()];
    if (!source)
      throw Malformed(
          fmt::format("btrfs: what lies at the address {} is on a device that is not there", logical));
    if (source->read_at(within, part) < part.size())
      throw CutShort(fmt::format("btrfs: what lies at the address {} is cut short", logical));
    logical += part.size();
    out = out.subspan(part.size());
  }
}

}  // namespace operculum::btrfs
