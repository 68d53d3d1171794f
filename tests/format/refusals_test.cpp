// What is said of damage, sentence by sentence: tests/fixtures/refusals.txt names a sample, bytes that are
// put into it at one or more places, and a sentence that must be told then. OPERCULUM_FIND_REFUSALS=FILE
// looks for sentences that are not in it yet, and writes lines for them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <mutex>
#include <optional>
#include <regex>
#include <set>

#include "base/numbers.h"
#include "base/text.h"
#include "codec/codec.h"
#include "fuzz/pages.h"
#include "fuzz/seeds.h"
#include "support/kernel_images.h"
#include "support/open.h"
#include "support/sample_tree.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

constexpr std::uint64_t kMostRead = 1 << 20;  // bytes of an entry

/// Which bytes of a sample are read. Safe to share between threads.
class Reads {
 public:
  void note(std::uint64_t at, std::size_t count) {
    std::lock_guard lock(mutex_);
    if (count <= kMostAtOnce) ranges_.emplace(at, count);  // what is read in larger pieces is data
  }
  /// The places of all of them, in order.
  std::set<std::uint64_t> places() const {
    std::set<std::uint64_t> all;
    for (auto [at, count] : ranges_)
      for (std::size_t i = 0; i < count; ++i) all.insert(at + i);
    return all;
  }

 private:
  static constexpr std::size_t kMostAtOnce = 16384;
  std::mutex mutex_;
  std::set<std::pair<std::uint64_t, std::size_t>> ranges_;
};

/// Bytes that are put at a place.
struct Change {
  std::uint64_t at = 0;
  Bytes bytes;
};
using Changes = std::vector<Change>;

/// The bytes of a sample with some changed; notes what is read where that is asked for.
class Patched final : public Source {
 public:
  Patched(const Bytes& sample, const Changes& changes, Reads* reads = nullptr)
      : bytes_(sample), changes_(changes), reads_(reads) {}
  std::uint64_t size() const override { return bytes_.size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= bytes_.size()) return 0;
    if (reads_ != nullptr) reads_->note(offset, out.size());
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), bytes_.size() - offset)));
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
    for (const Change& change : changes_)
      for (std::size_t i = 0; i < change.bytes.size(); ++i)
        if (std::uint64_t at = change.at + i; at >= offset && at - offset < out.size())
          out[at - offset] = change.bytes[i];
    return out.size();
  }

 private:
  const Bytes& bytes_;
  Changes changes_;
  Reads* reads_;
};

constexpr std::string_view kCorpus = "corpus/";  // samples that begin with it are files of fuzz/corpus

/// Each sample is made once.
const Bytes& sample(const std::string& name) {
  static std::map<std::string, Bytes> known = fuzz::seeds();
  auto found = known.find(name);
  if (found != known.end()) return found->second;
  if (name.starts_with(kCorpus))
    return known[name] = to_bytes(read_file(fmt::format("{}/fuzz/{}", OPERCULUM_SOURCE, name)));
  if (name.starts_with("kernel-")) {
    std::string set = name.substr(7);
    KernelImages images(set);
    Bytes image = to_bytes(images.folder().read(set + ".img"));
    return known[name] = std::move(image);
  }
  SampleTree tree = {{.path = "pool", .kind = EntryKind::folder},
                     {.path = "pool/tide.csv", .data = Bytes(3000, 'x')}};
  if (name == "zip")
    return known[name] = ZipBuilder()
                             .folder("pool")
                             .add("pool/tide.csv", std::string(3000, 'x'))
                             .stored("crab.txt", to_bytes("pinch"))
                             .zip64()
                             .build();
  if (name == "tar")
    return known[name] = TarBuilder().folder("pool").file("pool/tide.csv", std::string(3000, 'x')).build();
  return known[name] = encode(name, Bytes(5000, 'h'));
}

/// Everything that is said when a sample is opened, listed and read to its end.
std::set<std::string> told_of(const SourcePtr& source) {
  std::set<std::string> told;
  auto tell = [&](const std::string& sentence) { told.insert(sentence); };
  try {
    Held held = open_source(source);
    if (!held.opened.container) {
      for (const std::string& sentence : held.opened.almost) tell(sentence);
      return told;
    }
    held->facts();
    for (std::size_t i = 0; i < held->entries().size(); ++i) {
      if (!held->entries()[i].has_data()) continue;
      try {
        StreamPtr stream = held->content(i)->stream();
        Bytes block(64 * 1024);
        for (std::uint64_t done = 0, count = 1; count > 0 && done < kMostRead; done += count)
          count = stream->read(block);
      } catch (const Error& error) {
        tell(error.what());
      }
    }
    for (const Finding& finding : held->findings()) tell(finding.text);
  } catch (const Error& error) {
    tell(error.what());
  }
  return told;
}

struct Row {
  std::string sample;
  Changes changes;
  std::string sentence;
};

std::string list_path() {
  return std::string(OPERCULUM_SOURCE) + "/tests/fixtures/refusals.txt";
}

std::vector<Row> rows() {
  std::vector<Row> all;
  std::ifstream file(list_path());
  for (std::string line; std::getline(file, line);) {
    if (line.empty() || line[0] == '#') continue;
    auto parts = split(line, '\t');
    Row row{std::string(parts.front()), {}, std::string(parts.back())};
    for (std::size_t i = 1; i + 2 < parts.size(); i += 2)
      row.changes.push_back(
          {std::stoull(std::string(parts[i]), nullptr, 16), from_hex(parts[i + 1]).value()});
    all.push_back(std::move(row));
  }
  return all;
}

std::set<std::string> told_with(const std::string& name, const Changes& changes, Reads* reads = nullptr) {
  auto source = std::make_shared<Patched>(sample(name), changes, reads);
  bool of_pages = name.starts_with(kCorpus) && name.find("-pages/") != std::string::npos;
  return told_of(of_pages ? fuzz::pages_of(read_up_to(*source, 0, source->size())) : source);
}

/// As in the list: place and bytes of each, in hexadecimal, with tabs.
std::string written(const Changes& changes) {
  std::string text;
  for (const Change& change : changes) text += fmt::format("\t{:x}\t{}", change.at, to_hex(change.bytes));
  return text;
}

TEST(Refusals, AreToldAsTheyAreListed) {
  std::vector<Row> all = rows();
  ASSERT_GT(all.size(), 100u);
  for (const Row& row : all) {
    std::set<std::string> told = told_with(row.sample, row.changes);
    EXPECT_TRUE(told.contains(row.sentence))
        << row.sample << " with" << written(row.changes) << ": expected\n  " << row.sentence << "\nfound\n  "
        << fmt::format("{}", fmt::join(told, "\n  "));
  }
}

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
    const Bytes& whole = sample(name);
    Reads reads;
    read(name);
    told_with(name, {}, &reads);
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
    const Byte* bytes = sample(name).data() + at;
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

  void change(const std::string& name, Changes changes) {
    // A sum over what was changed hides what would be said behind it: it is put right, and the sums over it.
    for (std::size_t sums = 0; sums <= kMostSums; ++sums) {
      std::set<std::string> told = told_with(name, changes);
      std::optional<Change> sum;
      for (const std::string& sentence : told) {
        note(name, changes, sentence);
        if (!sum) sum = right_sum(name, changes, sentence);
      }
      if (!sum) return;
      changes.push_back(*std::move(sum));
    }
  }

  /// What would make two numbers of a sentence equal: the one that stands in the sample becomes the other.
  static std::optional<Change> right_sum(const std::string& name, const Changes& changes,
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
        if (auto at = place_of(name, changes, stored)) return Change{*at, wanted};
      }
    }
    return std::nullopt;
  }

  /// Where bytes stand in the changed sample, nearest to the first change.
  static std::optional<std::uint64_t> place_of(const std::string& name, const Changes& changes,
                                               const Bytes& bytes) {
    if (bytes.empty() || std::ranges::all_of(bytes, [](Byte byte) { return byte == 0; })) return std::nullopt;
    Bytes whole = sample(name);
    for (const Change& change : changes)
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

  void note(const std::string& name, const Changes& changes, const std::string& sentence) {
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

TEST(Refusals, AreLookedFor) {
  const char* path = std::getenv("OPERCULUM_FIND_REFUSALS");
  if (path == nullptr) GTEST_SKIP() << "OPERCULUM_FIND_REFUSALS is not set";
  std::ofstream out(path, std::ios::app);
  std::set<std::string> known;
  for (const Row& row : rows()) known.insert(shape_of(row.sentence));
  Finder finder(out, std::move(known));
  std::vector<std::string> names = {"zip",  "tar",        "gzip", "xz",       "zstd",     "bzip2",
                                    "zlib", "lzma-alone", "lz4",  "compress", "deflate64"};
  for (const auto& [name, bytes] : fuzz::seeds()) names.push_back(name);
  for (const char* set : {"minix1", "minix2", "minix3", "jfs", "reiser", "nilfs", "f2fs", "hfs", "bfs",
                          "befs", "qnx4", "qnx6", "affs-ffs", "affs-ofs", "hpfs", "sysv2", "sysv4", "xenix"})
    names.push_back(std::string("kernel-") + set);
  const std::string inputs = std::string(OPERCULUM_SOURCE) + "/fuzz/";
  std::set<std::string> kept;  // in order
  for (const auto& file : std::filesystem::recursive_directory_iterator(inputs + std::string(kCorpus)))
    if (file.is_regular_file()) kept.insert(file.path().string().substr(inputs.size()));
  names.insert(names.begin(), kept.begin(), kept.end());
  const char* only = std::getenv("OPERCULUM_ONLY");
  for (const std::string& name : names) {
    if (only != nullptr && name.find(only) == std::string::npos) continue;
    if (only == nullptr && name.starts_with(kCorpus)) {
      finder.read(name);  // to change so many takes long: those that are asked for
    } else {
      finder.look(name);
    }
  }
}

}  // namespace
}  // namespace operculum
