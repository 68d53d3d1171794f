#include "cipher/elephant.h"

#include <array>
#include <bit>
#include <vector>

#include "base/cursor.h"
#include "base/numbers.h"

namespace operculum {
namespace {

constexpr std::size_t kWord = 4;

/// One diffuser: what is added to each word are the words `near` and, rotated, `far` places on.
struct Diffuser {
  std::size_t near, far;
  int cycles;
  std::array<int, 4> rotations;
};

void undo(std::vector<std::uint32_t>& words, const Diffuser& by) {
  std::size_t count = words.size();
  for (int cycle = 0; cycle < by.cycles; ++cycle) {
    for (std::size_t i = 0; i < count; ++i)
      words[i] += words[(i + by.near) % count] ^
                  std::rotl(words[(i + by.far) % count], by.rotations[i % by.rotations.size()]);
  }
}

}  // namespace

void undo_elephant_diffusers(ByteSpan sector) {
  std::size_t count = sector.size() / kWord;
  if (count == 0) return;
  std::vector<std::uint32_t> words(count);
  for (std::size_t i = 0; i < count; ++i) words[i] = load_little<std::uint32_t>(sector.data() + i * kWord);
  // diffuser A looks back by 2 and 5 words, diffuser B ahead
  auto back = [count](std::size_t places) { return (count - places % count) % count; };
  undo(words, {2, 5, 3, {0, 10, 0, 25}});
  undo(words, {back(2), back(5), 5, {9, 0, 13, 0}});
  for (std::size_t i = 0; i < count; ++i) store_number(sector.data() + i * kWord, kWord, words[i]);
}

}  // namespace operculum
