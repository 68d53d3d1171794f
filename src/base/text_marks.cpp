#include "base/text_marks.h"

#include <xxhash.h>

#include <random>
#include <utility>

namespace operculum {
namespace {
constexpr std::size_t kFirstSlots = 64;
}

TextMarks::TextMarks() : slots_(kFirstSlots) {
  std::random_device chance;
  seed_ = static_cast<std::uint64_t>(chance()) << 32 | chance();
}

TextMarks::Slot TextMarks::digest(std::string_view text) const {
  XXH128_hash_t hash = XXH3_128bits_withSeed(text.data(), text.size(), seed_);
  return {hash.low64 & ~std::uint64_t{3}, hash.high64};
}

std::size_t TextMarks::place_of(const Slot& wanted) const {
  const std::size_t most = slots_.size() - 1;
  for (std::size_t at = static_cast<std::size_t>(wanted.high) & most;; at = (at + 1) & most) {
    const Slot& slot = slots_[at];
    if (slot.mark() == 0 || (slot.high == wanted.high && (slot.low ^ wanted.low) < 4)) return at;
  }
}

TextMarks::Mark TextMarks::find(std::string_view text) const {
  return slots_[place_of(digest(text))].mark();
}

TextMarks::Mark TextMarks::mark(std::string_view text, Mark mark) {
  Slot wanted = digest(text);
  Slot& slot = slots_[place_of(wanted)];
  if (slot.mark() != 0) return slot.mark();
  slot = wanted;
  slot.low |= mark;
  if (++used_ * 4 > slots_.size() * 3) grow();
  return 0;
}

void TextMarks::grow() {
  std::vector<Slot> old = std::exchange(slots_, std::vector<Slot>(slots_.size() * 2));
  for (const Slot& slot : old)
    if (slot.mark() != 0) slots_[place_of(slot)] = slot;
}

}  // namespace operculum
