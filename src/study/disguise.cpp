#include "study/disguise.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "layout/run/step.h"
#include "study/frame.h"
#include "study/key_counts.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kMostIndex = 32 << 20, kMostPacked = 8 << 20;  // bytes
constexpr std::size_t kLeastIndex = 24, kLeastKeyed = 64, kMostKey = 16;
constexpr std::size_t kKeyWindows[] = {1024, 384, 160};
constexpr std::size_t kMostPlaces = 64, kMostSpaces = 12;
constexpr std::uint64_t kFirstKeyed = 4;  // an index behind a header: where it begins shows when it was read
constexpr std::uint64_t kMostKeyed = 1 << 20;

/// The key in the layout language.
std::string transform_of(ByteView key, KeyKind kind) {
  return fmt::format("{}(hex \"{}\")", kind == KeyKind::exclusive ? "xor" : "subtract", to_hex(key));
}

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

std::shared_ptr<Space> unpacked_at(const Subject& subject, std::uint64_t at,
                                   const std::vector<std::uint64_t>& numbers) {
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
    return space;
  }
  return nullptr;
}

/// Keys under which many bytes would be zero, the shortest first: a longer one has to do better, for columns
/// that never change look like zeros under a key that is as long as a record.
std::vector<Bytes> likely_keys(ByteView bytes) {
  constexpr std::size_t kMostKeys = 3;
  std::vector<Bytes> keys;
  std::size_t most_zeros = 0;
  for (std::size_t length = 1; length <= kMostKey && keys.size() < kMostKeys; ++length) {
    KeyCounts counts(length);
    counts.add(bytes, 0);
    auto [key, zeros] = counts.commonest();
    bool same = std::all_of(key.begin(), key.end(), [](Byte b) { return b == 0; });
    if (same || zeros * 5 < bytes.size() || zeros < length * 12 || zeros * 20 < most_zeros * 21) continue;
    most_zeros = zeros;
    keys.push_back(std::move(key));
  }
  return keys;
}

/// Whether a key could be hidden in it: bytes that are zero or text as they lie have none.
bool may_be_keyed(ByteView bytes) {
  auto size = static_cast<std::ptrdiff_t>(bytes.size());
  return std::count(bytes.begin(), bytes.end(), 0) * 8 <= size &&
         std::count_if(bytes.begin(), bytes.end(), [](Byte b) { return b >= 0x20 && b < 0x7f; }) * 20 <=
             size * 19;
}

/// Keys of what begins with these bytes: of a short index a few of them tell more than many.
std::vector<Bytes> keys_of(ByteView bytes) {
  for (std::size_t window : kKeyWindows) {
    ByteView front = bytes.first(std::min(bytes.size(), window));
    if (front.size() < kLeastKeyed || !may_be_keyed(front)) continue;
    std::vector<Bytes> keys = likely_keys(front);
    if (!keys.empty()) return keys;
  }
  return {};
}

std::vector<std::shared_ptr<Space>> keyed_at(const Subject& subject, std::uint64_t at) {
  std::vector<std::shared_ptr<Space>> spaces;
  Bytes bytes = subject.read(at, kMostKeyed);
  for (const Bytes& key : keys_of(bytes)) {
    for (KeyKind kind : {KeyKind::exclusive, KeyKind::added}) {
      auto space = std::make_shared<Space>();
      space->bytes = bytes;
      for (std::size_t i = 0; i < bytes.size(); ++i) {
        Byte own = key[i % key.size()];
        space->bytes[i] = static_cast<Byte>(kind == KeyKind::exclusive ? bytes[i] ^ own : bytes[i] - own);
      }
      space->plain = false;
      space->stored_at = at;
      space->stored_size = bytes.size();
      space->key = key;
      space->key_kind = kind;
      space->made = transform_of(key, kind);
      spaces.push_back(std::move(space));
    }
  }
  return spaces;
}

}  // namespace

std::vector<SpacePtr> disguised_spaces(const Subject& subject) {
  const bool apart = subject.index.has_value();
  const Subject holder = apart ? Subject{subject.index->source, subject.index->name, std::nullopt} : subject;
  const std::uint64_t first = apart ? 0 : kFirstKeyed;  // a file may be nothing but its index
  Frame frame(holder, std::make_shared<Space>());
  std::vector<std::uint64_t> numbers = frame.places(holder.size());
  std::vector<std::uint64_t> places;
  for (std::uint64_t at = first; at <= 64 && at + kLeastIndex < holder.size(); ++at) places.push_back(at);
  for (std::uint64_t number : numbers) {
    if (number > 64 && places.size() < kMostPlaces * 2) places.push_back(number);
  }
  std::vector<SpacePtr> spaces;
  auto add = [&](std::shared_ptr<Space> space) {
    space->beside = apart;
    space->file_size = subject.size();
    space->holder_size = holder.size();
    spaces.push_back(std::move(space));
  };
  for (std::uint64_t place : places) {
    if (spaces.size() >= kMostSpaces / 2) break;
    if (auto space = unpacked_at(holder, place, numbers)) add(std::move(space));
  }
  std::size_t pointed = 0;
  for (std::uint64_t place : places) {
    if (place != first && (place <= 64 || ++pointed > 12)) continue;
    if (spaces.size() >= kMostSpaces) break;
    for (std::shared_ptr<Space>& space : keyed_at(holder, place)) add(std::move(space));
  }
  return spaces;
}

SpacePtr keyed_from(const Space& space, std::uint64_t begin) {
  auto moved = std::make_shared<Space>(space);
  moved->bytes.erase(moved->bytes.begin(), moved->bytes.begin() + static_cast<std::ptrdiff_t>(begin));
  moved->stored_at += begin;
  moved->stored_size -= begin;
  std::rotate(moved->key.begin(), moved->key.begin() + static_cast<std::ptrdiff_t>(begin % moved->key.size()),
              moved->key.end());
  moved->made = transform_of(moved->key, moved->key_kind);
  return moved;
}

}  // namespace operculum::study
