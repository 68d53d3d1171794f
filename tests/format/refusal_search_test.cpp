// OPERCULUM_FIND_REFUSALS=FILE looks for sentences about damage that are not in tests/fixtures/refusals.txt
// yet, and writes lines for them; OPERCULUM_ONLY=NAME in samples of such names alone.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <optional>
#include <regex>

#include "base/numbers.h"
#include "base/text.h"
#include "format/refusal_list.h"
#include "fuzz/seeds.h"

namespace operculum {
namespace {

using namespace test;

/// What is the same in all sentences of one kind: words with digits or escapes, and what stands in quotes or
/// brackets or in front of the first colon, are left out.
std::string shape_of(const std::string& sentence) {
  std::string shape, word;
  int within = 0;
  bool quoted = false, place = false;
  for (char c : sentence + " ") {
    if (c == '"') quoted = !quoted;
    within += c == '(' ? 1 : c == ')' ? -1 : 0;
    if (c != ' ') {
      bool varies = quoted || within > 0 || c == '"' || c == ')' || (c >= '0' && c <= '9') || c == '\\' ||
                    (c & 0x80) != 0;
      if (varies) {
        word = "#";
      } else if (word != "#") {
        word += c;
      }
      continue;
    }
    if (word == "#" && shape.ends_with("# ")) word.clear();
    if (!word.empty()) shape += word + " ";
    if (word.ends_with(':') && !std::exchange(place, true) && word.find('/') != std::string::npos)
      shape = "#: ";
    word.clear();
  }
  return shape;
}

/// Tries values at what is read of each sample.
class Finder {
 public:
  Finder(std::ofstream& out, std::set<std::string> known) : out_(out), known_(std::move(known)) {}

  /// The sample as it is, and with its sums put right.
  void read(const std::string& name) { change(name, {}); }

  void look(const std::string& name) {
    constexpr std::size_t kMostPlaces = 1000;
    const Bytes& whole = named_sample(name);
    Reads reads;
    read(name);
    told_of_damage(name, {}, &reads);
    std::vector<std::uint64_t> places;
    for (std::uint64_t at : reads.places())
      if (at < whole.size() && (whole[at] != 0 || at % 4 == 0))
        places.push_back(at);  // most zeros are filling
    std::size_t step = places.size() / kMostPlaces + 1;
    for (std::size_t i = 0; i < places.size(); i += step) {
      std::uint64_t at = places[i];
      Byte old = whole[at];
      for (Byte value : {Byte{0}, Byte{0xff}, static_cast<Byte>(old ^ 1), static_cast<Byte>(old ^ 0x80)})
        if (value != old) change(name, {{at, {value}}});
      for (std::size_t width : {2, 4, 8})
        if (at % width == 0 && at + width <= whole.size()) change_number(name, at, width);
    }
  }

 private:
  /// A number that may stand there, in the order in which it is the smaller one.
  void change_number(const std::string& name, std::uint64_t at, std::size_t width) {
    const Byte* bytes = named_sample(name).data() + at;
    std::uint64_t little = load_number(bytes, width, std::endian::little);
    std::uint64_t big = load_number(bytes, width, std::endian::big);
    std::endian order = little <= big ? std::endian::little : std::endian::big;
    std::uint64_t old = std::min(little, big), most = ~std::uint64_t{0} >> (64 - 8 * width);
    for (std::uint64_t value : {std::uint64_t{0}, old + 1, old * 2, most, most >> 9}) {
      Bytes number(width);
      store_number(number.data(), width, value, order);
      if ((value & most) != old) change(name, {{at, number}});
    }
  }

  void change(const std::string& name, Damage changes) {
    // A sum over what was changed hides what would be said behind it: it is put right, and the sums over it.
    for (std::size_t sums = 0; sums <= kMostSums; ++sums) {
      std::set<std::string> told = told_of_damage(name, changes);
      std::optional<ChangedBytes> sum;
      for (const std::string& sentence : told) {
        note(name, changes, sentence);
        if (!sum) sum = right_sum(name, changes, sentence);
      }
      if (!sum) return;
      changes.push_back(*std::move(sum));
    }
  }

  /// What would make two numbers of a sentence equal: the one that stands in the sample becomes the other.
  static std::optional<ChangedBytes> right_sum(const std::string& name, const Damage& changes,
                                               const std::string& sentence) {
    static const std::regex kTwo("([0-9a-f]{4,16})[^0-9a-f]+(?:found|computed) ([0-9a-f]{4,16})");
    std::smatch parts;
    if (!std::regex_search(sentence, parts, kTwo) || parts.length(1) != parts.length(2)) return std::nullopt;
    for (bool swapped : {false, true}) {
      Bytes stored = from_hex(parts[swapped ? 1 : 2].str()).value_or(Bytes{});
      Bytes wanted = from_hex(parts[swapped ? 2 : 1].str()).value_or(Bytes{});
      for (bool reversed : {false, true}) {
        if (reversed) std::ranges::reverse(stored);
        if (reversed) std::ranges::reverse(wanted);
        if (auto at = place_of(name, changes, stored)) return ChangedBytes{*at, wanted};
      }
    }
    return std::nullopt;
  }

  /// Where bytes stand in the changed sample, nearest to the first change.
  static std::optional<std::uint64_t> place_of(const std::string& name, const Damage& changes,
                                               const Bytes& bytes) {
    if (bytes.empty() || std::ranges::all_of(bytes, [](Byte byte) { return byte == 0; })) return std::nullopt;
    Bytes whole = named_sample(name);
    for (const ChangedBytes& change : changes)
      std::ranges::copy(change.bytes, whole.begin() + static_cast<std::ptrdiff_t>(change.at));
    std::optional<std::uint64_t> nearest;
    std::uint64_t first = changes.empty() ? 0 : changes[0].at;
    auto distance = [&](std::uint64_t at) { return at > first ? at - first : first - at; };
    for (auto found = whole.begin();; ++found) {
      found = std::search(found, whole.end(), bytes.begin(), bytes.end());
      if (found == whole.end()) return nearest;
      auto at = static_cast<std::uint64_t>(found - whole.begin());
      if (!nearest || distance(at) < distance(*nearest)) nearest = at;
    }
  }

  void note(const std::string& name, const Damage& changes, const std::string& sentence) {
    if (sentence.find('\t') != std::string::npos || !known_.insert(shape_of(sentence)).second) return;
    if (++found_[name] > kMostOfOne) return;
    out_ << name << written(changes) << '\t' << sentence << '\n' << std::flush;
  }

  static constexpr std::size_t kMostSums = 4;    // over one another
  static constexpr std::size_t kMostOfOne = 60;  // sentences of one sample

  std::ofstream& out_;
  std::set<std::string> known_;
  std::map<std::string, std::size_t> found_;
};

TEST(RefusalSearch, FindsSentencesThatAreNotListed) {
  const char* path = std::getenv("OPERCULUM_FIND_REFUSALS");
  if (path == nullptr) GTEST_SKIP() << "OPERCULUM_FIND_REFUSALS is not set";
  std::ofstream out(path, std::ios::app);
  std::set<std::string> known;
  for (const RefusalRow& row : refusal_rows()) known.insert(shape_of(row.sentence));
  Finder finder(out, std::move(known));
  std::vector<std::string> names = {"zip",  "tar",        "gzip", "xz",       "zstd",     "bzip2",
                                    "zlib", "lzma-alone", "lz4",  "compress", "deflate64"};
  for (const auto& [name, bytes] : fuzz::seeds()) names.push_back(name);
  for (const char* set : {"minix1", "minix2", "minix3", "jfs",   "reiser",   "nilfs",    "f2fs",    "hfs",
                          "bfs",    "befs",   "qnx4",   "qnx6",  "affs-ffs", "affs-ofs", "hpfs",    "sysv2",
                          "sysv4",  "xenix",  "xfs-5",  "xfs-4", "btrfs",    "ufs1",     "ufs2-big"})
    names.push_back(std::string("kernel-") + set);
  const std::string inputs = std::string(OPERCULUM_SOURCE) + "/fuzz/";
  std::set<std::string> kept;  // in order
  for (const auto& file : std::filesystem::recursive_directory_iterator(inputs + std::string(kCorpusSamples)))
    if (file.is_regular_file()) kept.insert(file.path().string().substr(inputs.size()));
  names.insert(names.begin(), kept.begin(), kept.end());
  const char* only = std::getenv("OPERCULUM_ONLY");
  for (const std::string& name : names) {
    if (only != nullptr && name.find(only) == std::string::npos) continue;
    if (only == nullptr && name.starts_with(kCorpusSamples)) {
      finder.read(name);  // to change so many takes long: those that are asked for
    } else {
      finder.look(name);
    }
  }
}

}  // namespace
}  // namespace operculum
