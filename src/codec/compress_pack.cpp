// The .Z form of `compress`, packed: LZW with codes of 9 to 16 bits, and the clear code when a full table
// packs worse than it did.
#include <algorithm>
#include <utility>

#include "codec/packers.h"

namespace operculum {
namespace {

constexpr unsigned kMinBits = 9, kMaxBits = 16;
constexpr std::uint32_t kClear = 256, kFirst = kClear + 1, kEnd = 1u << kMaxBits, kNone = UINT32_MAX;
constexpr std::size_t kStep = 64 * 1024;      // plain bytes
constexpr std::uint64_t kCheckEach = 10'000;  // plain bytes between looks at how well it packs

/// The strings that have codes: each is a shorter one and a byte.
class Strings {
 public:
  Strings() : slots_(kSlots) {}
  void clear() { std::fill(slots_.begin(), slots_.end(), Slot{}); }

  /// The code of a string, or kNone: then it has `code` from now on, if that is not kEnd.
  std::uint32_t find_or_add(std::uint32_t prefix, Byte byte, std::uint32_t code) {
    std::uint32_t key = prefix << 8 | byte;
    std::size_t at = key * 2654435761u >> (32 - kSlotBits);
    for (; slots_[at].code != 0; at = (at + 1) % kSlots)
      if (slots_[at].key == key) return slots_[at].code;
    if (code < kEnd) slots_[at] = {key, code};
    return kNone;
  }

 private:
  static constexpr unsigned kSlotBits = 18;
  static constexpr std::size_t kSlots = std::size_t{1} << kSlotBits;
  struct Slot {
    std::uint32_t key = 0, code = 0;  // 0: free
  };
  std::vector<Slot> slots_;
};

class CompressPacker final : public Stream {
 public:
  explicit CompressPacker(StreamPtr plain)
      : plain_(std::move(plain)), buffer_(kStep), out_{0x1f, 0x9d, 0x90} {}

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size()) {
      if (at_ == out_.size()) {
        if (ended_) break;
        out_.clear();
        at_ = 0;
        next_step();
        continue;
      }
      std::size_t count = std::min(out.size() - done, out_.size() - at_);
      std::copy_n(out_.begin() + static_cast<std::ptrdiff_t>(at_), count,
                  out.begin() + static_cast<std::ptrdiff_t>(done));
      at_ += count;
      done += count;
    }
    return done;
  }

 private:
  void next_step() {
    std::size_t count = plain_->read(buffer_);
    for (std::size_t i = 0; i < count; ++i) take(buffer_[i]);
    if (count > 0) return;
    ended_ = true;
    if (current_ != kNone) put(current_);
    if (bits_ > 0) put_bits(0, 8 - bits_);
  }

  void take(Byte byte) {
    ++taken_;
    if (current_ == kNone) {
      current_ = byte;
      return;
    }
    std::uint32_t known = strings_.find_or_add(current_, byte, next_);
    if (known != kNone) {
      current_ = known;
      return;
    }
    put(current_);
    current_ = byte;
    if (next_ < kEnd) {
      ++next_;
    } else if (taken_ >= next_check_) {
      check_ratio();
    }
  }

  void check_ratio() {
    next_check_ = taken_ + kCheckEach;
    std::uint64_t ratio = taken_ * 256 / std::max<std::uint64_t>(made_, 1);
    if (ratio >= best_ratio_) {
      best_ratio_ = ratio;
      return;
    }
    best_ratio_ = 0;
    taken_ = made_ = next_check_ = 0;
    put(kClear);
    fill_group();
    strings_.clear();
    width_ = kMinBits;
    next_ = readers_next_ = kFirst;
    reader_has_previous_ = false;
  }

  /// A reader learns strings one code later, and widens its codes by what it has learnt.
  void put(std::uint32_t code) {
    if (readers_next_ >= (1u << width_) && width_ < kMaxBits) {
      fill_group();
      ++width_;
    }
    put_bits(code, width_);
    group_bits_ = (group_bits_ + width_) % (8 * width_);
    if (reader_has_previous_ && readers_next_ < kEnd) ++readers_next_;
    reader_has_previous_ = true;
  }

  /// Codes come in groups of eight, which are filled up when their width changes.
  void fill_group() {
    while (group_bits_ != 0) {
      put_bits(0, width_);
      group_bits_ = (group_bits_ + width_) % (8 * width_);
    }
  }

  void put_bits(std::uint32_t value, unsigned count) {
    pending_ |= std::uint64_t{value} << bits_;
    bits_ += count;
    for (; bits_ >= 8; bits_ -= 8) {
      out_.push_back(static_cast<Byte>(pending_));
      pending_ >>= 8;
      ++made_;
    }
  }

  StreamPtr plain_;
  Bytes buffer_, out_;
  std::size_t at_ = 0;  // in out_
  Strings strings_;
  std::uint32_t current_ = kNone;  // the code of what was taken and not put yet
  std::uint32_t next_ = kFirst, readers_next_ = kFirst;
  bool reader_has_previous_ = false, ended_ = false;
  unsigned width_ = kMinBits, group_bits_ = 0, bits_ = 0;
  std::uint64_t pending_ = 0;
  std::uint64_t taken_ = 0, made_ = 0, next_check_ = 0, best_ratio_ = 0;  // since the last clear code
};

}  // namespace

StreamPtr pack_compress(StreamPtr plain, const PackSettings&) {
  return std::make_unique<CompressPacker>(std::move(plain));
}

}  // namespace operculum
