// A key shows where it is known what lies under it: the marks that files of known formats begin with, the
// blanks of a text, the zeros of most other things. Each guess is taken off some entries and has to make
// files of them.
#include "study/data_key.h"

#include <algorithm>
#include <cctype>
#include <set>

#include "base/text.h"
#include "base/units.h"
#include "study/key_counts.h"
#include "study/leaves.h"
#include "study/packing.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostCovered = 8, kMostKeyGuesses = 96, kMostLength = 16, kGuessedFrom = 3;
constexpr std::uint64_t kLeastCovered = 16, kMostOfOne = 256 << 10;  // bytes of an entry
constexpr std::size_t kLooked = 4096;                                // bytes of an entry that is to be a text

/// Bytes that are laid over data by exclusive or.
struct DataKey {
  Bytes bytes;           ///< that repeat
  bool through = false;  ///< through the file: the first of them meets its first byte
  Byte step = 0;         ///< not 0: one byte, which grows by so much from place to place
  bool operator==(const DataKey&) const = default;

  Byte at(std::uint64_t i) const {
    if (step != 0) return static_cast<Byte>(bytes[0] + step * i);
    return bytes[static_cast<std::size_t>(i % bytes.size())];
  }
};

struct Covered {
  std::uint64_t at;
  Bytes bytes;
};

std::vector<Covered> covered_entries(const Hypothesis& found, const Subject& subject) {
  std::vector<DataRun> runs = data_runs(found);
  std::erase_if(runs, [&](const DataRun& run) {
    return run.size < kLeastCovered || run.size > std::min(kMostOfOne, subject.size()) ||
           run.at > subject.size() - run.size;
  });
  std::vector<Covered> samples;
  std::size_t step = std::max<std::size_t>(1, runs.size() / kMostCovered);
  for (std::size_t i = 0; i < runs.size() && samples.size() < kMostCovered; i += step)
    samples.push_back({runs[i].at, subject.read(runs[i].at, runs[i].size)});
  return samples;
}

Bytes freed(const Covered& sample, const DataKey& key, std::size_t most) {
  Bytes plain(sample.bytes.begin(),
              sample.bytes.begin() + static_cast<std::ptrdiff_t>(std::min(sample.bytes.size(), most)));
  std::uint64_t from = key.through ? sample.at : 0;
  for (std::size_t i = 0; i < plain.size(); ++i) plain[i] ^= key.at(from + i);
  return plain;
}

/// Whether they read as words with blanks between them, of many letters: for a key of some letters makes a
/// text of zeros, too.
bool reads_as_text(ByteView bytes) {
  constexpr std::size_t kLeastText = 48, kLeastLetters = 10, kLongestWord = 15;
  std::set<Byte> letters;
  std::size_t blanks = 0, words = 0;
  for (Byte byte : bytes) {
    if (!is_text_byte(byte)) return false;
    if (std::isspace(byte) != 0) ++blanks;
    if (std::isalpha(byte) == 0) continue;
    ++words;
    letters.insert(byte);
  }
  return bytes.size() >= kLeastText && letters.size() >= kLeastLetters && words * 2 > bytes.size() &&
         blanks * kLongestWord > bytes.size();
}

/// Whether a key may lie over them: then hardly a byte is zero.
bool may_be_covered(const std::vector<Covered>& samples) {
  std::ptrdiff_t zeros = 0, all = 0;
  for (const Covered& sample : samples) {
    zeros += std::ranges::count(sample.bytes, 0);
    all += std::ssize(sample.bytes);
  }
  return zeros * 8 <= all;
}

/// Whether an entry is recognised once the key is taken off.
bool is_known(const Covered& sample, const DataKey& key) {
  Bytes front = freed(sample, key, kLooked);
  if (reads_as_text(front)) return true;
  static const std::vector<std::string_view> kMarks = leaf_marks();
  if (std::ranges::none_of(kMarks, [&](std::string_view mark) { return starts_with(front, mark); }))
    return false;
  auto leaf = leaf_in_front(*make_memory_source(freed(sample, key, sample.bytes.size())));
  return leaf && leaf->end > leaf->begin;
}

std::size_t known_of(const std::vector<Covered>& samples, const DataKey& key) {
  return static_cast<std::size_t>(
      std::ranges::count_if(samples, [&](const Covered& sample) { return is_known(sample, key); }));
}

/// Guesses, each once.
class KeyGuesses {
 public:
  explicit KeyGuesses(bool placed) : placed_(placed) {}

  void add(DataKey key) {
    if (std::ranges::all_of(key.bytes, [](Byte b) { return b == 0; }) && key.step == 0) return;
    if (all_.size() < kMostKeyGuesses && std::ranges::find(all_, key) == all_.end())
      all_.push_back(std::move(key));
  }

  /// The keys under which `sample` would begin with these bytes.
  void from_mark(const Covered& sample, std::string_view mark) {
    if (sample.bytes.size() < mark.size()) return;
    Bytes key(mark.size());
    for (std::size_t i = 0; i < mark.size(); ++i) key[i] = sample.bytes[i] ^ static_cast<Byte>(mark[i]);
    // Three bytes under a key of three may be any.
    constexpr std::size_t kShort = 4;
    for (std::size_t length = 1; length < key.size() + (key.size() < kShort ? 0 : 1); ++length) {
      bool repeats = true;
      for (std::size_t i = length; i < key.size(); ++i) repeats = repeats && key[i] == key[i - length];
      if (repeats) add_of(Bytes(key.begin(), key.begin() + static_cast<std::ptrdiff_t>(length)), sample.at);
    }
    Byte step = key.size() < 2 ? 0 : static_cast<Byte>(key[1] - key[0]);
    bool grows = key.size() > 2 && step != 0;
    for (std::size_t i = 2; i < key.size(); ++i)
      grows = grows && static_cast<Byte>(key[i] - key[i - 1]) == step;
    if (!grows) return;
    add({{key[0]}, false, step});
    if (placed_) add({{static_cast<Byte>(key[0] - step * sample.at)}, true, step});
  }

  /// The keys under which `likely` would be the commonest byte.
  void from_commonest(const std::vector<Covered>& samples, Byte likely) {
    for (bool through : {false, true}) {
      if (through && !placed_) continue;
      for (std::size_t length = 1; length <= kMostLength; ++length) {
        KeyCounts counts(length);
        for (const Covered& sample : samples)
          counts.add(ByteView(sample.bytes).first(std::min(sample.bytes.size(), kLooked)),
                     through ? sample.at : 0);
        DataKey key{counts.commonest().bytes, through, 0};
        for (Byte& byte : key.bytes) byte ^= likely;
        add(std::move(key));
      }
    }
  }

  const std::vector<DataKey>& all() const { return all_; }

 private:
  /// A key that repeats from the front of a sample on, and the same as one that runs through the file.
  void add_of(Bytes key, std::uint64_t at) {
    add({key, false, 0});
    if (!placed_ || key.size() == 1) return;
    std::size_t turned = key.size() - static_cast<std::size_t>(at % key.size());
    std::rotate(key.begin(), key.begin() + static_cast<std::ptrdiff_t>(turned % key.size()), key.end());
    add({std::move(key), true, 0});
  }

  bool placed_;  // the description names where each entry's data begins
  std::vector<DataKey> all_;
};

/// In the layout language.
std::string cipher_of(const DataKey& key, const Hypothesis& found) {
  const std::string place = found.base.empty() ? "item.at" : found.base + " + item.at";
  if (key.step != 0) {  // a generator adds before each byte
    std::string first = key.through ? fmt::format("{} + ({}) * {}",
                                                  static_cast<Byte>(key.bytes[0] - key.step), place, key.step)
                                    : std::to_string(static_cast<Byte>(key.bytes[0] - key.step));
    return fmt::format("lcg({}, 1, {}, 0)", first, key.step);
  }
  std::string bytes = key.bytes.size() == 1 ? fmt::format("{:#04x}", key.bytes[0])
                                            : fmt::format("hex \"{}\"", to_hex(key.bytes));
  return key.through && key.bytes.size() > 1 ? fmt::format("xor({}, start = {})", bytes, place)
                                             : fmt::format("xor({})", bytes);
}

}  // namespace

void find_data_key(Hypothesis& found, const Subject& subject) {
  constexpr std::size_t kLeastRecognised = 2;
  std::vector<Covered> samples = covered_entries(found, subject);
  if (samples.size() < kLeastRecognised || !may_be_covered(samples) || known_of(samples, {{0}, false, 0}) > 0)
    return;
  KeyGuesses guesses(found.placement.offset.has_value());
  for (std::size_t i = 0; i < std::min(samples.size(), kGuessedFrom); ++i)
    for (std::string_view mark : leaf_marks()) guesses.from_mark(samples[i], mark);
  for (Byte likely : {Byte{' '}, Byte{0}}) guesses.from_commonest(samples, likely);
  const DataKey* best = nullptr;
  std::size_t most = 0;
  for (const DataKey& key : guesses.all()) {
    std::size_t count = known_of(samples, key);
    bool better = count > most || (count == most && best != nullptr && key.bytes.size() < best->bytes.size());
    if (better) most = count, best = &key;
  }
  if (most < kLeastRecognised || most * 2 < samples.size()) return;
  found.packing.transform = cipher_of(*best, found);
  found.bits += kMostKeyBits / kMostCovered * static_cast<double>(most);
  found.evidence.push_back(fmt::format("{} of {} entries that were tried are recognised under a key of {}",
                                       most, samples.size(), counted(best->bytes.size(), "byte", "bytes")));
}

}  // namespace operculum::study
