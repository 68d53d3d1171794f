#include "study/key_counts.h"

#include <algorithm>

namespace operculum::study {

void KeyCounts::add(ByteView bytes, std::uint64_t from) {
  auto place = static_cast<std::size_t>(from % seen_.size());
  for (Byte byte : bytes) {
    ++seen_[place][byte];
    if (++place == seen_.size()) place = 0;
  }
}

KeyCounts::Commonest KeyCounts::commonest() const {
  Commonest found;
  for (const auto& counts : seen_) {
    auto most = std::ranges::max_element(counts);
    found.bytes.push_back(static_cast<Byte>(most - counts.begin()));
    found.count += *most;
  }
  return found;
}

}  // namespace operculum::study
