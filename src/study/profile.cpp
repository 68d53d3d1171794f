#include "study/profile.h"

#include <algorithm>
#include <cmath>

namespace operculum::study {
namespace {

constexpr std::uint64_t kMostBlocks = 2000, kLeastBlock = 256;

}  // namespace

Counted count_bytes(ByteView bytes) {
  std::array<std::uint32_t, 256> seen{};
  for (Byte byte : bytes) ++seen[byte];
  double size = static_cast<double>(bytes.size()), entropy = 0, printed = 0;
  std::size_t different = 0;
  for (std::size_t i = 0; i < 256; ++i) {
    if (seen[i] == 0) continue;
    ++different;
    double share = seen[i] / size;
    entropy -= share * std::log2(share);
    if ((i >= 0x20 && i < 0x7f) || i == '\n' || i == '\r' || i == '\t') printed += seen[i];
  }
  // Of n random bytes the entropy stays below 8: by about 255 / (2 n ln 2) bits (G. A. Miller, 1955).
  double most = std::max(0.0, 8 - 255 / (2 * size * std::log(2.0)));
  Look look = different == 1          ? Look::filling
              : printed > size * 0.95 ? Look::text
              : entropy > most - 0.35 ? Look::dense
                                      : Look::structured;
  return {look, static_cast<float>(entropy)};
}

std::string_view name_of(Look look) {
  constexpr std::string_view kNames[] = {"filling", "text", "structured", "packed or encrypted"};
  return kNames[static_cast<std::size_t>(look)];
}

Profile profile_of(const Source& file) {
  Profile profile;
  profile.block = std::max(kLeastBlock, (file.size() + kMostBlocks - 1) / kMostBlocks);
  Bytes block(static_cast<std::size_t>(profile.block));
  for (std::uint64_t at = 0; at < file.size(); at += profile.block) {
    std::size_t size = file.read_at(at, block);
    if (size == 0) break;
    Counted counted = count_bytes(ByteView(block).first(size));
    profile.entropy.push_back(counted.entropy);
    profile.bytes[static_cast<std::size_t>(counted.look)] += size;
    if (!profile.ranges.empty() && profile.ranges.back().look == counted.look)
      profile.ranges.back().end = at + size;
    else
      profile.ranges.push_back({counted.look, at, at + size});
  }
  return profile;
}

}  // namespace operculum::study
