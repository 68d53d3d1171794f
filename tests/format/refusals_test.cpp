// What is said of damage, sentence by sentence: tests/fixtures/refusals.txt names a sample, bytes that are
// put into it, and a sentence that must be told then. OPERCULUM_FIND_REFUSALS=FILE looks for sentences that
// are not in it yet, and writes lines for them.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <fstream>
#include <mutex>
#include <set>

#include "base/text.h"
#include "codec/codec.h"
#include "fuzz/mutate.h"
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

/// The bytes of a sample with some changed; notes what is read where that is asked for.
class Patched final : public Source {
 public:
  explicit Patched(const Bytes& sample) : bytes_(sample) {}
  std::uint64_t size() const override { return bytes_.size(); }
  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= bytes_.size()) return 0;
    if (reads != nullptr) reads->note(offset, out.size());
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), bytes_.size() - offset)));
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
    for (auto [at, byte] : changed)
      if (at >= offset && at < offset + out.size()) out[at - offset] = byte;
    return out.size();
  }
  std::vector<std::pair<std::uint64_t, Byte>> changed;
  Reads* reads = nullptr;

 private:
  const Bytes& bytes_;
};

/// Each sample is made once.
const Bytes& sample(const std::string& name) {
  static std::map<std::string, Bytes> known = fuzz::seeds();
  auto found = known.find(name);
  if (found != known.end()) return found->second;
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
  std::uint64_t at = 0;
  Bytes bytes;
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
    auto bytes = from_hex(parts.at(2));
    all.push_back({std::string(parts.at(0)), std::stoull(std::string(parts.at(1)), nullptr, 16), *bytes,
                   std::string(parts.at(3))});
  }
  return all;
}

TEST(Refusals, AreToldAsTheyAreListed) {
  std::vector<Row> all = rows();
  ASSERT_GT(all.size(), 100u);
  for (const Row& row : all) {
    auto source = std::make_shared<Patched>(sample(row.sample));
    for (std::size_t i = 0; i < row.bytes.size(); ++i) source->changed.emplace_back(row.at + i, row.bytes[i]);
    std::set<std::string> told = told_of(source);
    EXPECT_TRUE(told.contains(row.sentence))
        << row.sample << " with " << to_hex(row.bytes) << " at " << row.at << ": expected\n  " << row.sentence
        << "\nfound\n  " << fmt::format("{}", fmt::join(told, "\n  "));
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

  void look(const std::string& name) {
    constexpr std::size_t kMostPlaces = 4000;
    const Bytes& whole = sample(name);
    Reads reads;
    auto unchanged = std::make_shared<Patched>(whole);
    unchanged->reads = &reads;
    told_of(unchanged);
    std::vector<std::uint64_t> places;
    for (std::uint64_t at : reads.places())
      if (at < whole.size() && (whole[at] != 0 || at % 4 == 0))
        places.push_back(at);  // most zeros are filling
    std::size_t step = places.size() / kMostPlaces + 1;
    for (std::size_t i = 0; i < places.size(); i += step) {
      std::uint64_t at = places[i];
      Byte old = whole[at];
      for (Byte value : {Byte{0}, Byte{0xff}, static_cast<Byte>(old ^ 1), static_cast<Byte>(old ^ 0x80),
                         static_cast<Byte>(old + 2)})
        if (value != old) change(name, at, {value});
      if (at % 4 == 0 && at + 4 <= whole.size()) {
        change(name, at, Bytes(4, 0xff));
        change(name, at, {0x7f, 0xff, 0xff, 0xff});
        change(name, at, {0xff, 0xff, 0xff, 0x7f});
      }
    }
  }

 private:
  void change(const std::string& name, std::uint64_t at, const Bytes& bytes) {
    auto source = std::make_shared<Patched>(sample(name));
    for (std::size_t i = 0; i < bytes.size(); ++i) source->changed.emplace_back(at + i, bytes[i]);
    for (const std::string& sentence : told_of(source)) note(name, at, bytes, sentence);
  }

  void note(const std::string& name, std::uint64_t at, const Bytes& bytes, const std::string& sentence) {
    if (sentence.find('\t') != std::string::npos || !known_.insert(shape_of(sentence)).second) return;
    if (++found_[name] > kMostOfOne) return;
    out_ << fmt::format("{}\t{:x}\t{}\t{}\n", name, at, to_hex(bytes), sentence) << std::flush;
  }

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
  const char* only = std::getenv("OPERCULUM_ONLY");
  for (const std::string& name : names) {
    if (only != nullptr && name.find(only) == std::string::npos) continue;
    finder.look(name);
  }
}

}  // namespace
}  // namespace operculum
