// What is filled up at the end and in between: identify tells of it, rebuild --trim leaves it out.
#include "container/trim.h"

#include <gtest/gtest.h>

#include "base/cursor.h"
#include "base/numbers.h"
#include "support/byte_writer.h"
#include "support/disk_writer.h"
#include "support/has.h"
#include "support/iso_writer.h"
#include "support/program.h"
#include "support/rewritten.h"
#include "support/sample_tree.h"
#include "support/squashfs_writer.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"

namespace operculum::test {
namespace {

Bytes with_filling(Bytes bytes, std::size_t count, Byte filler = 0) {
  bytes.resize(bytes.size() + count, filler);
  return bytes;
}

/// What is left of a container, and that it holds the same; empty where nothing goes.
Bytes trimmed(const Bytes& before, const std::string& name = "sample") {
  Held held = open_bytes(before, name);
  auto made = held->trimmed(Look::whole);
  if (!made) return {};
  Bytes after = read_up_to(*made->result.source(), 0, made->result.size());
  Held open = open_bytes(after, name);
  EXPECT_TRUE(open->findings().empty()) << open->findings()[0].text;
  std::size_t gone = made->gone.size();
  EXPECT_EQ(open->entries().size() + gone, held->entries().size());
  for (std::size_t i = 0; i < open->entries().size(); ++i) {
    EXPECT_EQ(open->entries()[i].path, held->entries()[i].path);
    if (!open->entries()[i].has_data()) continue;
    EXPECT_EQ(text_of(*open, i), text_of(*held, i));
  }
  return after;
}

TEST(Trim, FillingBehindWhatIsNeeded) {
  Bytes squash = make_squashfs(sample_tree());
  squash.resize((squash.size() + 4095) / 4096 * 4096);
  EXPECT_TRUE(trimmed(with_filling(squash, 100'000)) == squash);
  EXPECT_TRUE(trimmed(with_filling(squash, 100'000, 0xff)) == squash);
  EXPECT_TRUE(trimmed(squash).empty());
  Bytes something = with_filling(squash, 100'000);
  something.back() = 7;
  EXPECT_TRUE(trimmed(something).empty());  // who knows what that is
}

TEST(Trim, TarArchivesKeepTheirWholeRecords) {
  Bytes tar = TarBuilder().file("a.txt", "alpha").add({.name = "zeros", .data = Bytes(5'000)}).build();
  tar.resize((tar.size() + 10'239) / 10'240 * 10'240);
  EXPECT_TRUE(trimmed(with_filling(tar, 3 * 10'240)) == tar);
  EXPECT_TRUE(trimmed(tar).empty());
}

TEST(Trim, SpaceBehindTheLastPartitionGoes) {
  Bytes disk = make_mbr({{noise(50'000)}, {noise(20'000)}});
  Bytes after = trimmed(with_filling(disk, 1 << 20));
  EXPECT_LE(after.size(), disk.size());
  EXPECT_GE(after.size(), 2 * 64 * 1024 + 20'000u);
  EXPECT_EQ(after.size() % 512, 0u);
  EXPECT_TRUE(trimmed(make_gpt({{noise(50'000)}})).empty());  // its copy of the table lies at the end
}

TEST(Trim, DiscsEndWithTheirLastFile) {
  SampleTree tree = sample_tree();
  tree.push_back({.path = "zlast.bin", .data = Bytes(9'000)});  // zeros that are a file's
  Bytes disc = make_iso(tree), full = with_filling(disc, 3 << 20);
  Bytes after = trimmed(full);
  EXPECT_LE(after.size(), disc.size());
  Held open = open_bytes(after);
  EXPECT_EQ(compare_tree(open, tree), "");
}

/// A disc that is a disk, too: its start partition lies behind the files, and ends with free space.
TEST(Trim, DiscsKeepThePartitionsBehindTheirFiles) {
  Bytes disc = make_iso(sample_tree());
  disc.resize((disc.size() + 2047) / 2048 * 2048);
  std::size_t start = disc.size() / 512;
  disc.resize(disc.size() + 200'704);
  std::fill_n(disc.begin() + static_cast<std::ptrdiff_t>(start * 512), 1'000, Byte{'F'});
  disc[446 + 4] = 0xef;
  store_number(&disc[446 + 8], 4, start);
  store_number(&disc[446 + 12], 4, 200'704 / 512);
  disc[510] = 0x55;
  disc[511] = 0xaa;
  auto made = open_bytes(with_filling(disc, 1 << 20))->trimmed(Look::whole);
  ASSERT_TRUE(made);
  EXPECT_EQ(made->result.size(), disc.size());
}

/// Two entries with a gap between them, and one in front of the directory.
Bytes gapped_zip(std::size_t gap, Byte filler) {
  Bytes whole = ZipBuilder().stored("a.raw", noise(100)).stored("b.raw", noise(300)).build();
  auto number = [&](std::size_t at) { return load_little<std::uint32_t>(whole.data() + at); };
  std::size_t end = whole.size() - 22, directory = number(end + 16);
  std::size_t second = 30 + 5 + 100;
  Bytes out(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(second));
  out.resize(out.size() + gap, filler);
  out.insert(out.end(), whole.begin() + static_cast<std::ptrdiff_t>(second),
             whole.begin() + static_cast<std::ptrdiff_t>(directory));
  out.resize(out.size() + gap, filler);
  std::size_t directory_now = out.size();
  out.insert(out.end(), whole.begin() + static_cast<std::ptrdiff_t>(directory), whole.end());
  auto set = [&](std::size_t at, std::size_t value) { store_number(out.data() + at, 4, value); };
  set(directory_now + 46 + 5 + 42, second + gap);
  set(out.size() - 22 + 16, directory_now);
  return out;
}

TEST(Trim, GapsBetweenZipEntriesAreClosed) {
  Bytes before = gapped_zip(70'000, 0), after = trimmed(before);
  EXPECT_EQ(after.size(), gapped_zip(0, 0).size());
  EXPECT_TRUE(trimmed(gapped_zip(70'000, 'x')).empty());  // not filling
  EXPECT_TRUE(trimmed(gapped_zip(0, 0)).empty());
}

struct TrimCommand : testing::Test {
  TempFolder folder;
  Ran run(std::vector<std::string> arguments) { return operculum(arguments, folder.path()); }
};

TEST(Trim, AZipWhoseCommentWouldThenBeTakenForItsEndStaysAsItIs) {
  constexpr std::size_t kGap = 256, kEndSize = 22;
  Bytes zip = ZipBuilder().stored("a.txt", noise(500)).build();
  std::size_t end = zip.size() - kEndSize, directory = load_little<std::uint32_t>(zip.data() + end + 16);
  zip.insert(zip.begin() + static_cast<std::ptrdiff_t>(directory), kGap, Byte{0});
  Canvas canvas(zip);
  canvas.u32(end + kGap + 16, directory + kGap);
  canvas.u16(end + kGap + 20, kEndSize);
  // an end record in the comment: its directory would be where the real one comes to lie
  canvas.put(zip.size(),
             ByteWriter().text("PK\5\6").u32(0).u16(1).u16(1).u32(5).u32(directory).u16(0).take());
  Held held = open_bytes(canvas.take());
  ASSERT_EQ(paths_of(*held), "a.txt");
  try {
    held->trimmed(Look::whole);
    FAIL() << "not refused";
  } catch (const Malformed& error) {
    EXPECT_NE(std::string(error.what()).find("would be taken for it"), std::string::npos) << error.what();
  }
}

TEST_F(TrimCommand, IdentifyTellsBeforehandAndTrimmedFromFull) {
  folder.write("disc.iso", with_filling(make_iso(sample_tree()), 3 << 20));
  EXPECT_TRUE(has(run({"identify", "disc.iso"}).out, "MiB that rebuild --trim would leave out"));
  Ran made = run({"rebuild", "disc.iso", "--trim", "--into", "small.iso"});
  EXPECT_EQ(made.exit_code, 0) << made.err;
  EXPECT_TRUE(has(made.out, "trimmed  3.")) << made.out;
  EXPECT_FALSE(has(run({"identify", "small.iso"}).out, "--trim"));
  EXPECT_EQ(run({"verify", "small.iso"}).exit_code, 0);
  EXPECT_EQ(run({"compare", "disc.iso", "small.iso"}).exit_code, 0);
}

TEST_F(TrimCommand, NothingToTrimWritesNothing) {
  folder.write("a.zip", ZipBuilder().add("a", "b").build());
  Ran made = run({"rebuild", "a.zip", "--trim", "--in-place"});
  EXPECT_EQ(made.exit_code, 0) << made.err;
  EXPECT_TRUE(has(made.out, "nothing differs, so nothing was written")) << made.out;
  EXPECT_EQ(folder.listing(), "a.zip");
}

TEST_F(TrimCommand, TrimsWithinContainersTogetherWithChangesAndIsTakenBack) {
  Bytes pack = gapped_zip(70'000, 0xff);
  folder.write("exhibit.tar", TarBuilder().add({.name = "pack.zip", .data = pack}).file("x", "y").build());
  folder.write("new.raw", std::string("new surf"));
  std::string before = folder.read("exhibit.tar");
  Ran trial = run({"rebuild", "exhibit.tar/pack.zip", "--trim", "--dry-run"});
  EXPECT_TRUE(has(trial.out, "trimmed  136.7 KiB of filling (140,000 bytes)")) << trial.out;
  EXPECT_EQ(folder.read("exhibit.tar"), before);
  Ran made = run({"rebuild", "exhibit.tar/pack.zip", "--trim", "--set", "b.raw=new.raw", "--in-place",
                  "--receipt", "back.json", "--json"});
  EXPECT_EQ(made.exit_code, 0) << made.err;
  EXPECT_TRUE(has(made.out, "\"trimmed_bytes\":140000")) << made.out;
  EXPECT_EQ(run({"show", "exhibit.tar/pack.zip/b.raw"}).out, "new surf");
  EXPECT_EQ(run({"discard", "back.json"}).exit_code, 0);
  EXPECT_EQ(folder.read("exhibit.tar"), before);
}

}  // namespace
}  // namespace operculum::test
