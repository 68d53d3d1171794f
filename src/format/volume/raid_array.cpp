#include "format/volume/raid_array.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "format/volume/raid_parity.h"
#include "io/block_cache.h"

namespace operculum {
namespace {

/// Bytes of the array that lie on one member.
struct Piece {
  std::size_t member = 0;
  std::uint64_t at = 0;      ///< offset in the member
  std::uint64_t length = 0;  ///< not 0
};

[[noreturn]] void throw_missing(std::size_t member) {
  throw Malformed(fmt::format("this part lies on member {} of the array, which is not there", member));
}

/// Arrays that only say where a byte is. Where copies exist, the first one that is there is read.
class PlacedArray : public Source {
 public:
  PlacedArray(std::vector<SourcePtr> members, std::uint64_t size)
      : members_(std::move(members)), size_(size) {}

  std::uint64_t size() const override { return size_; }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t done = 0;
    while (done < out.size() && offset + done < size_) {
      Piece piece = locate(offset + done);
      std::size_t length = static_cast<std::size_t>(
          std::min({piece.length, size_ - offset - done, std::uint64_t{out.size() - done}}));
      read_piece(piece, out.subspan(done, length));
      done += length;
    }
    return done;
  }

  std::uint64_t hole_at(std::uint64_t offset) const override {
    if (offset >= size_) return 0;
    Piece piece = locate(offset);
    if (!members_[piece.member]) return 0;
    return std::min({piece.length, size_ - offset, members_[piece.member]->hole_at(piece.at)});
  }

 protected:
  virtual Piece locate(std::uint64_t offset) const = 0;
  virtual void read_piece(const Piece& piece, ByteSpan out) const {
    if (!members_[piece.member]) throw_missing(piece.member);
    if (members_[piece.member]->read_at(piece.at, out) < out.size())
      throw CutShort(fmt::format("member {} of the array is cut short", piece.member));
  }
  const std::vector<SourcePtr>& members() const { return members_; }

 private:
  std::vector<SourcePtr> members_;
  std::uint64_t size_;
};

/// Levels 0, 1 and linear.
class Zones final : public PlacedArray {
 public:
  /// A stretch of the array over the members that are large enough for it.
  struct Zone {
    std::uint64_t begin = 0, end = 0;  ///< in the array
    std::uint64_t on_member = 0;       ///< where it begins on each
    std::vector<std::size_t> members;
  };

  Zones(std::vector<SourcePtr> members, std::vector<Zone> zones, std::uint64_t chunk, bool from_zone)
      : PlacedArray(std::move(members), zones.empty() ? 0 : zones.back().end),
        zones_(std::move(zones)),
        chunk_(chunk),
        from_zone_(from_zone) {}

 protected:
  Piece locate(std::uint64_t offset) const override {
    auto zone = std::upper_bound(zones_.begin(), zones_.end(), offset,
                                 [](std::uint64_t at, const Zone& one) { return at < one.end; });
    std::uint64_t within = offset - zone->begin, count = zone->members.size();
    if (count == 1) return {zone->members[0], zone->on_member + within, zone->end - offset};
    std::uint64_t which = (from_zone_ ? within : offset) / chunk_ % count;
    return {zone->members[static_cast<std::size_t>(which)],
            zone->on_member + within / chunk_ / count * chunk_ + within % chunk_, chunk_ - within % chunk_};
  }

 private:
  std::vector<Zone> zones_;
  std::uint64_t chunk_;
  bool from_zone_;  // whether the chunks' turn begins anew with each zone
};

/// Where the parts of a stripe lie.
struct Stripe {
  std::size_t p = SIZE_MAX, q = SIZE_MAX;
  bool in_order = false;  ///< the powers in Q count members, also those of P and Q (DDF)
};

/// Levels 4, 5 and 6.
class ParityArray final : public PlacedArray {
 public:
  ParityArray(const std::vector<SourcePtr>& members, const RaidShape& shape)
      : PlacedArray(members, shape.member_size / shape.chunk * shape.chunk *
                                 (members.size() - (shape.level == 6 ? 2 : 1))),
        shape_(shape),
        count_(members.size()),
        data_(count_ - (shape.level == 6 ? 2 : 1)) {
    std::size_t first = 0;
    place(0, first);  // throws where the layout is not known
  }

 protected:
  Piece locate(std::uint64_t offset) const override {
    std::uint64_t chunk = offset / shape_.chunk, within = offset % shape_.chunk, stripe = chunk / data_;
    std::size_t member = static_cast<std::size_t>(chunk % data_);
    place(stripe, member);
    return {member, stripe * shape_.chunk + within, shape_.chunk - within};
  }

  void read_piece(const Piece& piece, ByteSpan out) const override {
    if (members()[piece.member]) return PlacedArray::read_piece(piece, out);
    // what is missing is computed a block at a time, and the last ones are kept
    constexpr std::uint64_t kBlock = 16384;
    for (std::size_t done = 0; done < out.size();) {
      std::uint64_t at = piece.at + done, begin = at / kBlock * kBlock;
      std::uint64_t stripe_end = (at / shape_.chunk + 1) * shape_.chunk;
      begin = std::max(begin, at / shape_.chunk * shape_.chunk);
      std::size_t length =
          static_cast<std::size_t>(std::min(begin / kBlock * kBlock + kBlock, stripe_end) - begin);
      BytesPtr block =
          rebuilt_.get(begin * count_ + piece.member, [&] { return rebuild(piece.member, begin, length); });
      std::size_t from = static_cast<std::size_t>(at - begin),
                  part = std::min(length - from, out.size() - done);
      std::copy_n(block->begin() + static_cast<std::ptrdiff_t>(from), part,
                  out.begin() + static_cast<std::ptrdiff_t>(done));
      done += part;
    }
  }

 private:
  /// Where the chunk with the number `member` among a stripe's data lies: `member` becomes the array's
  /// (raid5.c, raid5_compute_sector).
  Stripe place(std::uint64_t stripe, std::size_t& member) const {
    return shape_.level == 6 ? place_with_q(stripe, member) : place_with_p(stripe, member);
  }

  Stripe place_with_p(std::uint64_t stripe, std::size_t& member) const {
    std::size_t turn = static_cast<std::size_t>(stripe % count_);
    if (shape_.level == 4) return {.p = data_};
    Stripe out{.p = shape_.layout % 2 == 0 ? data_ - turn : turn};
    switch (shape_.layout) {
      case 0:  // left and right asymmetric
      case 1:
        if (member >= out.p) ++member;
        return out;
      case 2:  // left and right symmetric
      case 3:
        member = (out.p + 1 + member) % count_;
        return out;
      case 4:  // parity first
        ++member;
        return {.p = 0};
      case 5:  // parity last
        return {.p = data_};
      case RaidShape::kForward:
        member = (member + turn) % count_;
        return {.p = (data_ + turn) % count_};
      default:
        throw Unsupported(fmt::format("RAID 5 with layout {}", shape_.layout));
    }
  }

  Stripe place_with_q(std::uint64_t stripe, std::size_t& member) const {
    std::size_t turn = static_cast<std::size_t>(stripe % count_), last = count_ - 1;
    auto beside = [&](std::size_t p, bool in_order) {  // Q follows P; data fills the rest in order
      if (p == last) {
        ++member;
        return Stripe{p, 0, in_order};
      }
      if (member >= p) member += 2;
      return Stripe{p, p + 1, in_order};
    };
    switch (shape_.layout) {
      case 0:  // left and right asymmetric
        return beside(last - turn, false);
      case 1:
        return beside(turn, false);
      case 2:  // left and right symmetric
      case 3: {
        std::size_t p = shape_.layout == 2 ? last - turn : turn;
        member = (p + 2 + member) % count_;
        return {p, (p + 1) % count_};
      }
      case 4:  // parity first
        member += 2;
        return {0, 1};
      case 5:  // parity last
        return {data_, data_ + 1};
      case RaidShape::kForward:
        member = (member + turn) % count_;
        return {(data_ + turn) % count_, (data_ + 1 + turn) % count_};
      case 8:  // DDF: rotating zero restart, rotating N restart, rotating N continue
        return beside(turn, true);
      case 9:
        return beside(last - static_cast<std::size_t>((stripe + 1) % count_), true);
      case 10: {
        std::size_t p = last - turn;
        member = (p + 1 + member) % count_;
        return {p, (p + count_ - 1) % count_, true};
      }
      case 16:
      case 17:
      case 18:
      case 19:
      case 20: {  // the layouts of RAID 5, with Q on the last member
        std::size_t five = last;
        turn = static_cast<std::size_t>(stripe % five);
        std::size_t p = shape_.layout == 20 ? 0 : shape_.layout % 2 == 0 ? data_ - turn : turn;
        if (shape_.layout == 18 || shape_.layout == 19) {
          member = (p + 1 + member) % five;
        } else if (member >= p) {
          ++member;
        }
        return {p, last};
      }
      default:
        throw Unsupported(fmt::format("RAID 6 with layout {}", shape_.layout));
    }
  }

  Bytes rebuild(std::size_t wanted, std::uint64_t at, std::size_t length) const {
    std::size_t first = 0;
    Stripe stripe = place(at / shape_.chunk, first);
    std::vector<StripePart> parts(count_);
    // Q counts data from the member behind it on; with DDF from the first member
    std::size_t power = 0, start = stripe.in_order || stripe.q == SIZE_MAX ? 0 : (stripe.q + 1) % count_;
    for (std::size_t i = 0; i < count_; ++i) {
      std::size_t member = (start + i) % count_;
      StripePart& part = parts[member];
      if (member == stripe.p) part.kind = StripePart::Kind::p;
      if (member == stripe.q) part.kind = StripePart::Kind::q;
      if (stripe.in_order) {
        part.power = static_cast<unsigned>(i);
      } else if (part.kind == StripePart::Kind::data) {
        part.power = static_cast<unsigned>(power++);
      }
      if (!members()[member]) continue;
      part.bytes.emplace(length);
      if (members()[member]->read_at(at, *part.bytes) < length)
        throw CutShort(fmt::format("member {} of the array is cut short", member));
    }
    return rebuild_part(parts, wanted, length);
  }

  RaidShape shape_;
  std::size_t count_, data_;
  mutable BlockCache rebuilt_{8 << 20};
};

/// Level 10 (raid10.c, __raid10_find_phys).
class CopiesArray final : public PlacedArray {
 public:
  CopiesArray(const std::vector<SourcePtr>& members, const RaidShape& shape)
      : PlacedArray(members, size_of(members.size(), shape)), chunk_(shape.chunk), count_(members.size()) {
    near_ = shape.layout & 0xFF;
    far_ = shape.layout >> 8 & 0xFF;
    constexpr unsigned kFarOffset = 1 << 16;
    offset_ = (shape.layout & kFarOffset) != 0;
    std::uint64_t chunks = shape.member_size / chunk_;
    std::uint64_t used = (chunks / far_ * count_ / near_ * near_ * far_ + count_ - 1) / count_;
    stride_ = offset_ ? chunk_ : used / far_ * chunk_;
    unsigned sets = shape.layout >> 17;
    set_ = sets == 0 ? count_ : sets == 1 ? count_ / far_ : std::size_t{far_} * near_;
    if (set_ == 0 || set_ > count_ || sets > 2)
      throw Unsupported(fmt::format("RAID 10 with layout {:#x}", shape.layout));
  }

 protected:
  Piece locate(std::uint64_t offset) const override {
    std::uint64_t within = offset % chunk_, chunk = offset / chunk_ * near_, stripe = chunk / count_;
    std::size_t member = static_cast<std::size_t>(chunk % count_);
    if (offset_) stripe *= far_;
    std::uint64_t at = stripe * chunk_ + within;
    std::optional<Piece> first;
    std::size_t last_start = (count_ / set_ - 1) * set_, last_size = set_ + count_ % set_;
    for (unsigned copy = 0; copy < near_; ++copy) {
      std::size_t one = member;
      std::uint64_t place = at;
      for (unsigned further = 0; further < far_; ++further) {
        Piece piece{one, place, chunk_ - within};
        if (members()[one]) return piece;
        if (!first) first = piece;
        std::size_t group = one / set_;
        one += near_;
        if (count_ % set_ != 0 && one > last_start) {
          one = (one - last_start) % last_size + last_start;
        } else {
          one = one % set_ + set_ * group;
        }
        place += stride_;
      }
      if (++member == count_) {
        member = 0;
        at += chunk_;
      }
    }
    return *first;
  }

 private:
  static std::uint64_t size_of(std::size_t count, const RaidShape& shape) {
    unsigned near = shape.layout & 0xFF, far = shape.layout >> 8 & 0xFF;
    if (near == 0 || far == 0 || near * far > count)
      throw Malformed(
          fmt::format("RAID 10: layout {:#x} is not possible with {} members", shape.layout, count));
    return shape.member_size / shape.chunk / far * count / near * shape.chunk;
  }

  std::uint64_t chunk_, stride_ = 0;
  std::size_t count_, set_ = 0;
  unsigned near_ = 1, far_ = 1;
  bool offset_ = false;
};

/// Level 0: the members need not be of one size (raid0.c, create_strip_zones).
SourcePtr make_striped(const RaidShape& shape, std::vector<SourcePtr> members) {
  std::vector<Zones::Zone> zones;
  std::uint64_t from = 0, begin = 0;
  while (true) {
    Zones::Zone zone{.begin = begin, .on_member = from};
    std::uint64_t least = UINT64_MAX;
    for (std::size_t i = 0; i < members.size(); ++i) {
      // of one that is missing only the common size is known
      std::uint64_t size = (members[i] ? members[i]->size() : shape.member_size) / shape.chunk * shape.chunk;
      if (size <= from) continue;
      zone.members.push_back(i);
      least = std::min(least, size);
    }
    if (zone.members.empty()) break;
    zone.end = begin += (least - from) * zone.members.size();
    from = least;
    zones.push_back(std::move(zone));
  }
  constexpr unsigned kAlternate = 2;  // RAID0_ALT_MULTIZONE_LAYOUT
  return std::make_shared<Zones>(std::move(members), std::move(zones), shape.chunk,
                                 shape.layout == kAlternate);
}

SourcePtr make_linear(const RaidShape& shape, std::vector<SourcePtr> members) {
  std::vector<Zones::Zone> zones;
  std::uint64_t at = 0;
  for (std::size_t i = 0; i < members.size(); ++i) {
    std::uint64_t size = members[i] ? members[i]->size() : shape.member_size;
    if (shape.chunk != 0) size = size / shape.chunk * shape.chunk;
    if (size != 0) zones.push_back({at, at + size, 0, {i}});
    at += size;
  }
  return std::make_shared<Zones>(std::move(members), std::move(zones), 1, false);
}

SourcePtr make_mirror(const RaidShape& shape, const std::vector<SourcePtr>& members) {
  for (const SourcePtr& one : members)
    if (one) return make_slice(one, 0, shape.member_size);
  throw_missing(0);
}

}  // namespace

std::string level_name(int level) {
  return level == RaidShape::kLinear ? "linear" : fmt::format("RAID {}", level);
}

unsigned redundancy(const RaidShape& shape, std::size_t members) {
  switch (shape.level) {
    case 1:
      return static_cast<unsigned>(members) - 1;
    case 4:
    case 5:
      return 1;
    case 6:
      return 2;
    case 10:
      return (shape.layout & 0xFF) * (shape.layout >> 8 & 0xFF) - 1;
    default:
      return 0;
  }
}

SourcePtr make_raid_array(const RaidShape& shape, std::vector<SourcePtr> members) {
  auto need = [&](std::size_t least) {
    if (members.size() < least)
      throw Malformed(
          fmt::format("RAID {}: expected {} members or more, found {}", shape.level, least, members.size()));
    if (shape.chunk == 0)
      throw Malformed(fmt::format("RAID {}: chunks of 0 bytes are not possible", shape.level));
  };
  switch (shape.level) {
    case RaidShape::kLinear:
      return make_linear(shape, std::move(members));
    case 0:
      need(1);
      return make_striped(shape, std::move(members));
    case 1:
      return make_mirror(shape, members);
    case 4:
    case 5:
      need(2);
      return std::make_shared<ParityArray>(members, shape);
    case 6:
      need(3);
      return std::make_shared<ParityArray>(members, shape);
    case 10:
      need(2);
      return std::make_shared<CopiesArray>(members, shape);
    default:
      throw Unsupported(fmt::format("RAID level {}", shape.level));
  }
}

}  // namespace operculum
