// An index in a file of its own, beside the one with the data.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "codec/codec.h"
#include "support/byte_writer.h"
#include "support/program.h"
#include "support/sample_tree.h"
#include "support/studied.h"
#include "support/temp_folder.h"

namespace operculum::test {
namespace {

struct Pair {
  Bytes index, data;
  SampleTree files;
};

enum class Kind { named, packed };
/// What became of the index behind its first four bytes.
enum class Disguise { none, zlib, keyed };

Bytes readings(unsigned count) {
  ByteWriter out;
  for (unsigned i = 0; i < count; ++i) out.text(fmt::format("{:02}:00 {} cm\n", i % 24, i * i % 430));
  return out.take();
}

Bytes disguised(const Bytes& index, Disguise disguise) {
  constexpr std::size_t kPlain = 4;
  ByteView rest = ByteView(index).subspan(kPlain);
  Bytes made(index.begin(), index.begin() + kPlain);
  Bytes hidden(rest.begin(), rest.end());
  if (disguise == Disguise::zlib) hidden = encode("zlib", hidden);
  if (disguise == Disguise::keyed)
    for (std::size_t i = 0; i < hidden.size(); ++i) hidden[i] ^= static_cast<Byte>("mole"[i % 4]);
  made.insert(made.end(), hidden.begin(), hidden.end());
  return made;
}

/// Records of a name, a place and a size, in one file; what they tell of, in the other.
Pair make_pair(Kind kind, Disguise disguise = Disguise::none) {
  Pair pair;
  ByteWriter index, data;
  index.text("TIDX").u32(30);
  data.text("TDAT");
  for (std::uint32_t i = 0; i < 30; ++i) {
    std::string name = fmt::format("gauge/reading{}.log", i);
    Bytes plain = kind == Kind::packed ? readings(20 + i * 53 % 70) : noise(300 + i * 71 % 900, i);
    Bytes stored = kind == Kind::packed ? encode("zlib", plain) : plain;
    if (kind == Kind::named) index.text(padded(name, 32));
    index.u32(data.size()).u32(stored.size());
    if (kind == Kind::packed) index.u32(plain.size());
    data.bytes(stored);
    pair.files.push_back({.path = name, .data = plain});
  }
  pair.index = disguised(index.take(), disguise);
  pair.data = data.take();
  return pair;
}

class StudyBeside : public testing::Test {
 protected:
  void write(const Pair& pair) {
    folder_.write("gauge.idx", pair.index);
    folder_.write("gauge.dat", pair.data);
  }
  std::string draft(const std::string& target) {
    Ran ran = operculum({"study", target, "--draft", "gauge.layout"}, folder_.path());
    EXPECT_EQ(ran.exit_code, 0) << ran.out << ran.err;
    return folder_.read("gauge.layout");
  }
  void expect_all(const std::string& target, const SampleTree& files) {
    Ran ran = operculum({"unpack", "--layout", "gauge.layout", target, "--into", "out"}, folder_.path());
    EXPECT_EQ(ran.exit_code, 0) << ran.err;
    for (const SampleNode& file : files)
      EXPECT_EQ(folder_.read("out/" + file.path), as_text(file.data)) << file.path;
  }
  TempFolder folder_;
};

TEST_F(StudyBeside, ReadsTheIndexOfAFileThatHoldsDataAlone) {
  Pair pair = make_pair(Kind::named);
  write(pair);
  std::string text = draft("gauge.dat");
  EXPECT_NE(text.find("index = file(\"{file_stem}.idx\")"), std::string::npos) << text;
  EXPECT_NE(text.find("items = Item[front.count] at 8 in index"), std::string::npos) << text;
  expect_all("gauge.dat", pair.files);
  Ran check = operculum({"layout", "check", "gauge.layout", "gauge.dat"}, folder_.path());
  EXPECT_EQ(check.exit_code, 0) << check.out << check.err;
}

TEST_F(StudyBeside, ReadsTheDataOfAnIndexAlone) {
  Pair pair = make_pair(Kind::named);
  write(pair);
  std::string text = draft("gauge.idx");
  EXPECT_NE(text.find("magic bytes \"TIDX\""), std::string::npos) << text;
  EXPECT_NE(text.find("data  = file(\"{file_stem}.dat\")"), std::string::npos) << text;
  EXPECT_NE(text.find("data = part(data, item.at, item.size)"), std::string::npos) << text;
  expect_all("gauge.idx", pair.files);
}

TEST_F(StudyBeside, FindsPackedEntriesWithoutNames) {
  Pair pair = make_pair(Kind::packed);
  write(pair);
  std::string text = draft("gauge.dat");
  EXPECT_NE(text.find("| zlib"), std::string::npos) << text;
  Ran verify = operculum({"verify", "--layout", "gauge.layout", "gauge.dat"}, folder_.path());
  EXPECT_EQ(verify.exit_code, 0) << verify.out << verify.err;
  EXPECT_NE(verify.out.find("30 files decoded"), std::string::npos) << verify.out;
}

TEST_F(StudyBeside, ReadsAnIndexThatIsPacked) {
  Pair pair = make_pair(Kind::named, Disguise::zlib);
  write(pair);
  std::string text = draft("gauge.dat");
  EXPECT_NE(text.find("index = part(file(\"{file_stem}.idx\"), 4) | zlib"), std::string::npos) << text;
  expect_all("gauge.dat", pair.files);
  Ran check = operculum({"layout", "check", "gauge.layout", "gauge.dat"}, folder_.path());
  EXPECT_EQ(check.exit_code, 0) << check.out << check.err;
}

TEST_F(StudyBeside, ReadsTheDataOfAnIndexThatIsPacked) {
  Pair pair = make_pair(Kind::named, Disguise::zlib);
  write(pair);
  std::string text = draft("gauge.idx");
  EXPECT_NE(text.find("data  = file(\"{file_stem}.dat\")"), std::string::npos) << text;
  EXPECT_NE(text.find("index = rest(4) | zlib"), std::string::npos) << text;
  expect_all("gauge.idx", pair.files);
}

TEST_F(StudyBeside, ReadsAnIndexUnderAKey) {
  Pair pair = make_pair(Kind::named, Disguise::keyed);
  write(pair);
  std::string text = draft("gauge.dat");
  EXPECT_NE(text.find("| xor(hex \""), std::string::npos) << text;
  expect_all("gauge.dat", pair.files);
}

TEST_F(StudyBeside, TakesTheFileThatIsNamedWithIt) {
  Pair pair = make_pair(Kind::named);
  folder_.write("places.bin", pair.index);
  folder_.write("readings.bin", pair.data);
  Ran alone = operculum({"study", "readings.bin"}, folder_.path());
  EXPECT_EQ(alone.exit_code, 1) << alone.out;
  Ran both = operculum({"study", "readings.bin", "places.bin", "--draft", "gauge.layout"}, folder_.path());
  EXPECT_EQ(both.exit_code, 0) << both.out << both.err;
  EXPECT_NE(folder_.read("gauge.layout").find("index = file(\"places.bin\")"), std::string::npos);
  expect_all("readings.bin", pair.files);
}

}  // namespace
}  // namespace operculum::test
