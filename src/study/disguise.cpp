#include "study/disguise.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"
#include "layout/run/step.h"
#include "study/frame.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kMostIndex = 32 << 20, kMostPacked = 8 << 20;  // bytes
constexpr std::size_t kLeastIndex = 24, kKeyWindow = 1024, kMostKey = 16;
constexpr std::size_t kMostPlaces = 64, kMostSpaces = 8;
constexpr std::uint64_t kMostKeyed = 1 << 20;

/// What a packed stream begins with, cheaply looked at.
struct Packer {
  std::string_view step;  ///< of the layout language
  bool (*fits)(ByteView front);
};

constexpr Packer kPackers[] = {
    {"zlib",
     [](ByteView b) {
       return (b[0] & 0x0f) == 8 && (b[0] >> 4) <= 7 && ((b[0] << 8) | b[1]) % 31 == 0 && (b[1] & 0x20) == 0;
     }},
    {"gzip", [](ByteView b) { return b[0] == 0x1f && b[1] == 0x8b && b[2] == 8; }},
    {"zstd", [](ByteView b) { return b[0] == 0x28 && b[1] == 0xb5 && b[2] == 0x2f && b[3] == 0xfd; }},
    {"xz", [](ByteView b) { return b[0] == 0xfd && b[1] == '7' && b[2] == 'z'; }},
    {"lzma_alone", [](ByteView b) { return b[0] == 0x5d && b[1] == 0 && b[2] == 0; }},
};

/// What the first `size` bytes are unpacked to; nothing when they cannot be, or make no index.
std::optional<Bytes> unpacked(const Packer& packer, const SourcePtr& packed, std::uint64_t size) {
  try {
    StreamPtr stream =
        layout::find_step(packer.step)->open(make_source_stream(packed, 0, size), {}, std::nullopt);
    Bytes plain = read_all(*stream, kMostIndex);
    return plain.size() >= kLeastIndex ? std::optional(std::move(plain)) : std::nullopt;
  } catch (const std::exception&) {
    return std::nullopt;
  }
}

/// An index that was packed, and how many bytes it took.
struct Unpacked {
  Bytes plain;
  std::uint64_t size;
};

/// The index at the begin of `packed`: its size is one that is stated, or else found by trying, for data may
/// lie behind it, and fewer bytes cannot be unpacked.
std::optional<Unpacked> unpack_front(const Packer& packer, const SourcePtr& packed,
                                     const std::vector<std::uint64_t>& numbers) {
  for (std::uint64_t number : numbers) {
    if (number < 8 || number >= packed->size()) continue;
    auto plain = unpacked(packer, packed, number);
    if (plain && !unpacked(packer, packed, number - 1)) return Unpacked{std::move(*plain), number};
  }
  std::uint64_t least = 0, most = packed->size();
  auto plain = unpacked(packer, packed, most);
  if (plain) return Unpacked{std::move(*plain), most};
  while (least < most) {
    std::uint64_t middle = (least + most) / 2;
    if (auto shorter = unpacked(packer, packed, middle)) {
      plain = std::move(shorter);
      most = middle;
    } else {
      least = middle + 1;
    }
  }
  return plain ? std::optional(Unpacked{std::move(*plain), most}) : std::nullopt;
}

SpacePtr unpacked_at(const Subject& subject, std::uint64_t at, const std::vector<std::uint64_t>& numbers) {
  Bytes front = subject.read(at, 8);
  if (front.size() < 8) return nullptr;
  for (const Packer& packer : kPackers) {
    if (!packer.fits(front)) continue;
    auto found = unpack_front(packer, make_memory_source(subject.read(at, kMostPacked)), numbers);
    if (!found) continue;
    auto space = std::make_shared<Space>();
    space->bytes = std::move(found->plain);
    space->plain = false;
    space->stored_at = at;
    space->stored_size = found->size;
    space->made = packer.step;
    space->file_size = subject.size();
    return space;
  }
  return nullptr;
}

/// The shortest of the keys under which most bytes would be zero; empty when there is none.
Bytes likely_key(ByteView bytes) {
  Bytes best;
  std::size_t most_zeros = 0;
  for (std::size_t length = 1; length <= kMostKey; ++length) {
    Bytes key(length);
    std::size_t zeros = 0;
    for (std::size_t i = 0; i < length; ++i) {
      std::array<std::size_t, 256> seen{};
      for (std::size_t at = i; at < bytes.size(); at += length) ++seen[bytes[at]];
      auto most = std::max_element(seen.begin(), seen.end());
      key[i] = static_cast<Byte>(most - seen.begin());
      zeros += *most;
    }
    bool same = std::all_of(key.begin(), key.end(), [](Byte b) { return b == 0; });
    if (same || zeros * 5 < bytes.size() || zeros < length * 12 || zeros * 20 < most_zeros * 21) continue;
    most_zeros = zeros;
    best = std::move(key);
  }
  return best;
}

std::vector<SpacePtr> keyed_at(const Subject& subject, std::uint64_t at) {
  std::vector<SpacePtr> spaces;
  Bytes bytes = subject.read(at, kMostKeyed);
  ByteView window = ByteView(bytes).first(std::min(bytes.size(), kKeyWindow));
  if (window.size() < 64 ||
      std::count(window.begin(), window.end(), 0) * 8 > static_cast<std::ptrdiff_t>(window.size()))
    return spaces;
  if (std::count_if(window.begin(), window.end(), [](Byte b) { return b >= 0x20 && b < 0x7f; }) * 20 >
      static_cast<std::ptrdiff_t>(window.size()) * 19)
    return spaces;
  Bytes key = likely_key(window);
  if (key.empty()) return spaces;
  for (bool exclusive : {true, false}) {
    auto space = std::make_shared<Space>();
    space->bytes = bytes;
    for (std::size_t i = 0; i < bytes.size(); ++i)
      space->bytes[i] =
          static_cast<Byte>(exclusive ? bytes[i] ^ key[i % key.size()] : bytes[i] - key[i % key.size()]);
    space->plain = false;
    space->stored_at = at;
    space->stored_size = bytes.size();
    space->keyed = true;
    space->made = fmt::format("{}(hex \"{}\")", exclusive ? "xor" : "subtract", to_hex(key));
    space->file_size = subject.size();
    spaces.push_back(std::move(space));
  }
  return spaces;
}

}  // namespace

std::vector<SpacePtr> disguised_spaces(const Subject& subject) {
  auto plain = std::make_shared<Space>();
  Frame frame(subject, plain);
  std::vector<std::uint64_t> numbers = frame.places(subject.size());
  std::vector<std::uint64_t> places;
  for (std::uint64_t at = 4; at <= 64 && at + kLeastIndex < subject.size(); ++at) places.push_back(at);
  for (std::uint64_t number : numbers) {
    if (number > 64 && places.size() < kMostPlaces * 2) places.push_back(number);
  }
  std::vector<SpacePtr> spaces;
  for (std::uint64_t place : places) {
    if (spaces.size() >= kMostSpaces / 2) break;
    if (SpacePtr space = unpacked_at(subject, place, numbers)) spaces.push_back(std::move(space));
  }
  std::size_t pointed = 0;
  for (std::uint64_t place : places) {
    bool behind_header = place == 8 || place == 12 || place == 16;
    if (!behind_header && (place <= 64 || ++pointed > 12)) continue;
    if (spaces.size() >= kMostSpaces) break;
    for (SpacePtr& space : keyed_at(subject, place)) spaces.push_back(std::move(space));
  }
  return spaces;
}

}  // namespace operculum::study
