// Small made-up packs, one for each way in which an index can be found.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <functional>
#include <map>
#include <random>

#include "base/checksum.h"
#include "base/sum_kinds.h"
#include "codec/codec.h"
#include "layout/compile.h"
#include "layout/described_container.h"
#include "study/study.h"
#include "support/byte_writer.h"
#include "support/sample_tree.h"
#include "support/studied.h"

namespace operculum::study {
namespace {

using namespace test;

TEST(StudySearch, FindsLinesOfNamesAndDecimalNumbers) {
  std::vector<File> files = exhibits(30);
  std::string lines;
  std::size_t at = 0;
  for (const File& file : files) {
    lines += fmt::format("{:<16}{:>8}\n", file.name, at);
    at += file.data.size();
  }
  ByteWriter bytes;
  bytes.text(fmt::format(" 1 {:>6} {:>8}\n", files.size(), lines.size()));
  bytes.text(lines);
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("at decimal word"), std::string::npos) << found.draft;
  EXPECT_NE(found.draft.find("count decimal word"), std::string::npos) << found.draft;
}

TEST(StudySearch, FindsWhereAListOfPlacesAndNamesIsEndedByZeros) {
  std::vector<File> files = exhibits(40);
  std::size_t index = 5 + 4;
  for (const File& file : files) index += 4 + file.name.size() + 1;
  ByteWriter bytes;
  std::size_t at = index;
  for (const File& file : files) {
    bytes.u32(at);
    bytes.text(file.name);
    bytes.u8(0);
    at += file.data.size();
  }
  bytes.u32(at);  // of no name: where the data ends
  bytes.u8(0);
  bytes.u32(0);
  for (const File& file : files) bytes.bytes(file.data);
  bytes.text("written at the mole");
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("while (u32 at here) != 0"), std::string::npos) << found.draft;
}

/// Records with a time whose highest byte, which lies last, is the letter A.
enum class NameFirst { no, yes };
Bytes timed_pack(const std::vector<File>& files, NameFirst name_first) {
  std::size_t at = 8;
  for (const File& file : files) at += 12 + file.name.size() + 1;
  ByteWriter bytes;
  bytes.text("BAY4").u32(files.size());
  for (const File& file : files) {
    if (name_first == NameFirst::yes) bytes.text(file.name).u8(0);
    bytes.u32(at).u32(file.data.size()).u32(1100000000 + static_cast<std::uint32_t>(at) * 7);
    if (name_first == NameFirst::no) bytes.text(file.name).u8(0);
    at += file.data.size();
  }
  for (const File& file : files) bytes.bytes(file.data);
  return bytes.take();
}

TEST(StudySearch, GivesLettersInFrontOfNamesBackToTheNumbersThatEndInThem) {
  std::vector<File> files = exhibits(30);
  for (NameFirst order : {NameFirst::no, NameFirst::yes}) {
    Studied found = studied(timed_pack(files, order));
    EXPECT_EQ(found.files, files) << found.draft;
    EXPECT_NE(found.draft.find("written u32"), std::string::npos) << found.draft;
  }
}

TEST(StudySearch, CutsRecordsWhereNumbersAreWhole) {
  // The highest bytes of places and the lowest of times are alike wherever the cut is, but for one.
  std::vector<File> files = exhibits(20);
  ByteWriter table, data;
  std::size_t begin = 8 + files.size() * 28;
  for (const File& file : files) {
    table.u64(0x0100000000000000 + begin + data.size());
    table.u32(static_cast<std::uint32_t>(file.data.size()));
    table.text(padded(file.name, 16));
    data.bytes(file.data);
  }
  ByteWriter bytes;
  bytes.text("BAY5").u32(files.size()).bytes(table.view()).bytes(data.view());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("  at u32"), std::string::npos) << found.draft;
  EXPECT_EQ(found.draft.find("u8"), std::string::npos) << found.draft;
}

TEST(StudySearch, FindsAPackWithoutNamesWhoseEntriesLieInAnotherOrder) {
  std::vector<File> files = exhibits(22);
  std::vector<std::size_t> places(files.size());
  std::size_t at = 8 + files.size() * 8;
  for (std::size_t i = files.size(); i-- > 0;) {
    places[i] = at;
    at += files[i].data.size();
  }
  ByteWriter bytes;
  bytes.text("BAY6").u32(files.size());
  for (std::size_t i = 0; i < files.size(); ++i)
    bytes.u32(places[i]).u32(static_cast<std::uint32_t>(files[i].data.size()));
  for (std::size_t i = files.size(); i-- > 0;) bytes.bytes(files[i].data);
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data) << i;
}

TEST(StudySearch, FindsTablesThatAreSortedByNameButNotByPlace) {
  std::vector<File> files = exhibits(24), sorted = files;
  std::sort(sorted.begin(), sorted.end(), [](const File& a, const File& b) { return a.name < b.name; });
  std::map<std::string, std::size_t> places;
  std::size_t at = 8 + files.size() * 24;
  for (const File& file : files) {
    places[file.name] = at;
    at += file.data.size();
  }
  ByteWriter bytes;
  bytes.text("BAY2");
  bytes.u32(files.size());
  for (const File& file : sorted) {
    Bytes name(16);
    std::copy(file.name.begin(), file.name.end(), name.begin());
    bytes.bytes(name);
    bytes.u32(places[file.name]);
    bytes.u32(file.data.size());
  }
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, sorted) << found.draft;
}

/// A chain of headers: a tag, how many parts follow that belong to it, a narrow size.
TEST(StudySearch, FollowsTagsWithNarrowSizes) {
  std::vector<File> files = exhibits(20);
  ByteWriter bytes;
  bytes.text("Saltmarsh Point, exhibit parts, second edition\x1a");
  constexpr std::string_view kTags[] = {"ROOT", "LIMB", "SHEL", "PICT"};
  for (std::size_t i = 0; i < files.size(); ++i) {
    bytes.text(kTags[i % 4]);
    bytes.u16(i % 3);
    bytes.u16(files[i].data.size());
    bytes.bytes(files[i].data);
  }
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data);
}

TEST(StudySearch, FollowsHeadersOfEntriesThatAreEquallyLong) {
  ByteWriter bytes;
  for (std::uint32_t i = 0; i < 90; ++i) {
    bytes.u32(1028);
    bytes.bytes(noise(1028, i));
  }
  EXPECT_EQ(studied(bytes.view()).files.size(), 90u);
}

TEST(StudySearch, CountsTwoRecordsMoreThanAreStated) {
  std::vector<File> files = exhibits(31);
  ByteWriter bytes;
  bytes.text("NOTICEBOARD");
  bytes.u8(4);
  bytes.u16(files.size() - 2);
  bytes.u8(0);
  for (const File& file : files) bytes.u32(file.data.size());
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  EXPECT_EQ(found.files.back().data, files.back().data);
}

TEST(StudySearch, ReadsTablesOfEntriesThatAreEquallyLong) {
  std::size_t count = 200, size = 270, at = 8 + count * 32;
  ByteWriter bytes;
  bytes.text("BAY5");
  bytes.u32(count);
  for (std::size_t i = 0; i < count; ++i) {
    std::string name = fmt::format("hall{}/tile{}.bin", i / 100, i);
    bytes.text(name).zeros(24 - name.size());
    bytes.u32(at).u32(size);
    at += size;
  }
  for (std::uint32_t i = 0; i < count; ++i) bytes.bytes(noise(size, i));
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), count) << found.draft;
  EXPECT_EQ(found.files[0], (File{"hall0/tile0.bin", noise(size, 0)}));
  EXPECT_EQ(found.files[199], (File{"hall1/tile199.bin", noise(size, 199)}));
}

TEST(StudySearch, NamesTimesAndChecksums) {
  std::vector<File> files = exhibits(12);
  std::size_t at = 8 + files.size() * 32;
  ByteWriter bytes;
  bytes.text("BAY4");
  bytes.u32(files.size());
  for (std::size_t i = 0; i < files.size(); ++i) {
    bytes.text(files[i].name).zeros(16 - files[i].name.size());
    bytes.u32(at).u32(files[i].data.size());
    bytes.u32be(crc32(0, files[i].data));
    bytes.u32(701234567 + i * 86413);
    at += files[i].data.size();
  }
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  for (std::string_view line :
       {"sum u32 big", "check crc32 of data = item.sum", "written u32", "time = unix(item.written)"})
    EXPECT_NE(found.draft.find(line), std::string::npos) << line << "\n" << found.draft;
}

/// Numbers in the first records happen to be a place within the table and a count that fits there.
TEST(StudySearch, IsNotLedAstrayByNumbersThatPointIntoTheTable) {
  std::vector<File> files = exhibits(60);
  std::size_t record = 20, begin = 8, at = begin + files.size() * record;
  ByteWriter bytes;
  bytes.text("BAY3");
  bytes.u32(files.size());
  for (std::size_t i = 0; i < files.size(); ++i) {
    Bytes name(8);
    std::string text = fmt::format("t{:03}", i);
    std::copy(text.begin(), text.end(), name.begin());
    bytes.bytes(name);
    bytes.u32(at);
    bytes.u32(files[i].data.size());
    bytes.u32(i == 0 ? begin + 10 * record : i == 1 ? files.size() - 10 : 0);
    at += files[i].data.size();
  }
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files.size(), files.size()) << found.draft;
}

/// How an entry's header lies in front of its data.
using HeaderOf = std::function<void(ByteWriter&, const File&)>;
Bytes chained(std::string_view magic, const std::vector<File>& files, const HeaderOf& header) {
  ByteWriter bytes;
  bytes.text(magic).u32be(static_cast<std::uint32_t>(files.size()));
  for (const File& file : files) {
    header(bytes, file);
    bytes.bytes(file.data).align(4);
  }
  return bytes.take();
}

std::uint32_t size_of(const File& file) {
  return static_cast<std::uint32_t>(file.data.size());
}

TEST(StudySearch, FindsHeadersWhoseFirstNumberEndsLikeALetter) {
  std::vector<File> files = exhibits(20);
  files.front().data = noise(0x161, 1);
  Bytes bytes = chained("BAY5", files, [](ByteWriter& out, const File& file) {
    out.u32be(size_of(file)).text(file.name).u8(0);
  });
  Studied found = studied(bytes);
  EXPECT_EQ(found.files, files) << found.draft;
}

TEST(StudySearch, FollowsAFewNamesThoughOneEntryHoldsNearlyAll) {
  std::vector<File> files = exhibits(7);
  files[3].data = noise(40'000, 9);
  Bytes bytes = chained("BAY7", files, [](ByteWriter& out, const File& file) {
    out.u32(static_cast<std::uint32_t>(file.name.size())).text(file.name).u32(size_of(file));
  });
  Studied found = studied(bytes);
  EXPECT_EQ(found.files, files) << found.draft;
}

TEST(StudySearch, FindsHeadersWithLongNamesBehindTheirSizes) {
  std::vector<File> files = exhibits(16);
  Bytes bytes = chained("BAY6", files, [](ByteWriter& out, const File& file) {
    out.u32be(size_of(file)).text(padded(file.name, 64));
  });
  Studied found = studied(bytes);
  EXPECT_EQ(found.files, files) << found.draft;
}

/// Headers that begin a little later, with the first letters of a name as a number, lead to the end as well.
TEST(StudySearch, KeepsNamesInHeadersWhole) {
  std::vector<File> files = exhibits(25);
  for (File& file : files) file.name = "harbour/" + file.name;
  Bytes bytes = chained("TIDEBAY7", files, [](ByteWriter& out, const File& file) {
    out.text(file.name).u8(0).u32(size_of(file)).u32(0).u32(crc32(0, file.data));
  });
  Studied found = studied(bytes);
  EXPECT_EQ(found.files, files) << found.draft;
}

TEST(StudySearch, FindsPlacesThatDescendBesideATableOfNames) {
  std::vector<File> files = exhibits(32);
  std::vector<std::size_t> at(files.size());
  ByteWriter data, index, names;
  for (std::size_t k = 0; k < files.size(); ++k) {
    std::size_t i = k < 10 ? k : files.size() - 1 - (k - 10);  // from the tenth on they come from the end
    at[i] = 12 + data.size();
    data.bytes(files[i].data);
  }
  for (std::size_t i = 0; i < files.size(); ++i) {
    index.u32(crc32(0, files[i].data)).u32(size_of(files[i])).u32(at[i]).u32(names.size());
    names.text(files[i].name).u8(0);
  }
  ByteWriter bytes;
  bytes.text("BAY8").u32(files.size()).u32(12 + data.size());
  bytes.bytes(data.view()).bytes(index.view()).bytes(names.view());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
}

/// Bytes under a key of four bytes.
Bytes keyed(Bytes bytes) {
  constexpr Byte kKey[] = {0x5a, 0xc3, 0x21, 0x7e};
  for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] ^= kKey[i % 4];
  return bytes;
}

TEST(StudySearch, FindsTheKeyOfAShortIndexRightBehindTheHeader) {
  std::vector<File> files = exhibits(20);
  std::size_t at = 6;
  for (const File& file : files) at += 13 + file.name.size();
  ByteWriter index, bytes;
  for (const File& file : files) {
    index.u8(file.name.size()).text(file.name).u32be(0).u32be(size_of(file)).u32be(at);
    at += file.data.size();
  }
  bytes.text("BAY9").u16be(files.size()).bytes(keyed(index.take()));
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("rest(6) | xor(hex"), std::string::npos) << found.draft;
}

TEST(StudySearch, PutsDataBehindAnIndexUnderAKeyThatTellsSizesAlone) {
  std::vector<File> files = exhibits(30);
  ByteWriter index, bytes;
  for (const File& file : files) index.text(padded(file.name, 32)).u32(size_of(file));
  bytes.text("BAYA").u32(files.size()).bytes(keyed(index.take()));
  for (const File& file : files) bytes.bytes(file.data);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
}

/// The last letter of the mark would do as a number of records, if filling behind the table were records.
TEST(StudySearch, EndsATableWhereFillingBegins) {
  std::vector<File> files = exhibits(34);
  for (std::size_t i = 0; i < files.size(); ++i) files[i].data = noise(300 + i * 1237 % 9000, 3);
  ByteWriter bytes;
  bytes.text("TIDEPACK").u16be(files.size());
  std::size_t at = 2048;
  for (const File& file : files) {
    bytes.text(padded(file.name, 16)).u32be(size_of(file)).u32be(at / 2048);
    at += (file.data.size() + 2047) / 2048 * 2048;
  }
  for (const File& file : files) bytes.align(2048).bytes(file.data);
  bytes.align(2048);
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
}

TEST(StudySearch, ComparesEntriesWithWhatIsRecognised) {
  std::vector<File> files = exhibits(12);
  std::size_t at = 8 + files.size() * 24;
  std::vector<std::uint64_t> anchors;
  ByteWriter bytes;
  bytes.text("BAYB").u32(files.size());
  for (const File& file : files) {
    bytes.text(padded(file.name, 16)).u32(at).u32(size_of(file));
    anchors.push_back(at);
    at += file.data.size();
  }
  for (const File& file : files) bytes.bytes(file.data);
  OpenContext context;
  NamedFile file{make_memory_source(bytes.view()), "store.bay"};
  Findings without = study({file, 4}, context), with = study({file, 4, {}, {}, anchors}, context);
  ASSERT_TRUE(with.solved());
  EXPECT_GT(with.drafts.front().hypothesis.bits, without.drafts.front().hypothesis.bits);
  EXPECT_TRUE(std::any_of(with.drafts.front().hypothesis.evidence.begin(),
                          with.drafts.front().hypothesis.evidence.end(), [](const std::string& line) {
                            return line.starts_with("12 of 12 entries begin where something begins");
                          }));
}

/// Each entry begins with a text that its size does not count, and a flag shares four bytes with its place.
TEST(StudySearch, TakesTextsBetweenEntriesForWhatBelongsToThem) {
  std::vector<File> files = exhibits(60);
  std::size_t at = files.size() * 8;
  ByteWriter index, data;
  for (std::size_t i = 0; i < files.size(); ++i) {
    files[i].data = noise(3000 + i * 1237 % 9000, static_cast<std::uint32_t>(i));
    std::string said = fmt::format("recorded-at-the-mole-by-{}", files[i].name);
    index.u32((at + data.size()) | 0x80000000u).u32(size_of(files[i]));
    data.bytes(files[i].data).text(said);
  }
  Studied found = studied(ByteWriter().bytes(index.view()).bytes(data.view()).take());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data) << i;
}

/// The size counts the name behind it, too, and a place stands behind all entries.
TEST(StudySearch, EndsAChainInFrontOfATrailerAndTakesNamesOutOfWhatSizesCount) {
  std::vector<File> files = exhibits(40);
  ByteWriter bytes;
  for (const File& file : files)
    bytes.u32(file.name.size() + 1 + file.data.size()).text(file.name).u8(0).bytes(file.data);
  bytes.u32(bytes.size());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("while here < end - 4"), std::string::npos) << found.draft;
}

TEST(StudySearch, EndsAChainWithoutNamesInFrontOfATrailer) {
  std::vector<File> files = exhibits(40);
  ByteWriter bytes;
  for (const File& file : files) bytes.u32(size_of(file)).bytes(file.data);
  bytes.u32be(0xfeedbeef).u16(7);
  Studied found = studied(bytes.view());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data) << i;
}

/// Each entry begins with a header of its own that its size in the table does not count.
TEST(StudySearch, GivesEntriesTheHeadersThatSizesLeaveOut) {
  std::vector<File> files = exhibits(50);
  std::size_t at = 8 + files.size() * 8;
  ByteWriter index, data;
  for (std::size_t i = 0; i < files.size(); ++i) {
    Bytes own =
        ByteWriter().u16(0x7a11).u32be(0x90000000u + i * 7919).bytes(noise(40 + i % 9, 77 + i)).take();
    index.u32(at + data.size()).u32(600 + i * 13);
    files[i].data = ByteWriter().bytes(own).bytes(noise(600 + i * 13, i)).take();
    data.bytes(files[i].data);
  }
  Studied found =
      studied(ByteWriter().text("BAYC").u32(files.size()).bytes(index.view()).bytes(data.view()).take());
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data) << i;
}

/// Nothing states where places count from; what is recognised among the data tells it.
TEST(StudySearch, CountsPlacesFromWhereAnchorsSay) {
  std::vector<File> files = exhibits(24);
  for (std::size_t i = 0; i < files.size(); ++i)
    files[i].data = noise(300 + i * 211 % 617, 900 + static_cast<std::uint32_t>(i));
  ByteWriter index, data;
  for (const File& file : files) {
    index.u32(data.size());
    data.bytes(file.data);
  }
  ByteWriter bytes;
  bytes.text("BAYD").u32(files.size()).bytes(index.view()).bytes(noise(700, 5));  // and something else
  std::vector<std::uint64_t> anchors;
  std::size_t at = bytes.size();
  for (const File& file : files) {
    anchors.push_back(at);
    at += file.data.size();
  }
  bytes.bytes(data.view());
  Studied found = studied(bytes.view(), anchors);
  ASSERT_EQ(found.files.size(), files.size()) << found.draft;
  for (std::size_t i = 0; i < files.size(); ++i) EXPECT_EQ(found.files[i].data, files[i].data) << i;
}

/// What is made of bytes by a key that was found by counting is no index for that alone.
TEST(StudySearch, BelievesNoKeyForNumbersThatRiseAlone) {
  ByteWriter bytes;
  bytes.u32(1500);
  std::mt19937 lot(5);
  for (std::uint32_t i = 0; i < 1500; ++i) {
    std::uint32_t place = lot() % 0x400000, size = 200 + lot() % 0x8000;
    bytes.u16(0x1000 + i * 7).u16(place & 0xffff).u8(place >> 16 | 0x80).u16(size & 0xffff).u8(0x40);
  }
  EXPECT_EQ(studied(bytes.view()).draft, "none");
}

/// Records of a place and a word of 31 bits that count and one that tells whether the data is packed.
TEST(StudySearch, ReadsAFlagInTheHighestBitOfSizes) {
  std::vector<File> files = exhibits(40);
  ByteWriter index, data;
  std::uint32_t at = 8 + 40 * 24;
  for (std::size_t i = 0; i < files.size(); ++i) {
    bool packed = i % 3 == 0;
    if (packed) files[i].data = Bytes(900 + i * 31, static_cast<Byte>('a' + i % 7));
    Bytes stored = packed ? encode("zlib", files[i].data) : files[i].data;
    index.text(padded(files[i].name, 16))
        .u32(at)
        .u32(static_cast<std::uint32_t>(stored.size()) | (packed ? 0x80000000u : 0u));
    data.bytes(stored);
    at += static_cast<std::uint32_t>(stored.size());
  }
  ByteWriter bytes;
  bytes.text("BAY5").u32(40).bytes(index.take()).bytes(data.take());
  Studied found = studied(bytes.view());
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("size_word bits u32 { size: 31, size_flags: 1 }"), std::string::npos)
      << found.draft;
  EXPECT_NE(found.draft.find("when item.size_flags == 1: zlib"), std::string::npos) << found.draft;
}

/// Files in folders that are records themselves. `first` is what the first record is called, `none` what
/// stands where there is no folder.
Bytes folder_pack(const std::vector<File>& files, std::uint32_t first, std::uint32_t none) {
  constexpr std::uint32_t kFolders = 3;
  ByteWriter index, data;
  auto count = static_cast<std::uint32_t>(files.size()) + kFolders;
  std::uint32_t at = 8 + count * 28;
  auto record = [&](std::string name, std::uint32_t parent, std::uint32_t size) {
    name.resize(16);
    index.text(name).u32(parent).u32(at).u32(size);
    at += size;
  };
  record("pool", none, 0);
  record("deep", first, 0);
  record("mole", none, 0);
  for (std::size_t i = 0; i < files.size(); ++i) {
    std::string name = files[i].name.substr(files[i].name.rfind('/') + 1);
    std::uint32_t parent = i % 4 == 3 ? none : first + static_cast<std::uint32_t>(i % 4);
    record(name, parent, static_cast<std::uint32_t>(files[i].data.size()));
    data.bytes(files[i].data);
  }
  ByteWriter bytes;
  return bytes.text("BAY6").u32(count).bytes(index.take()).bytes(data.take()).take();
}

TEST(StudySearch, PutsEntriesIntoTheFoldersThatRecordsTell) {
  constexpr std::string_view kFolders[] = {"pool/", "pool/deep/", "mole/", ""};
  std::vector<File> files = exhibits(30);
  for (std::size_t i = 0; i < files.size(); ++i) files[i].name = std::string(kFolders[i % 4]) + files[i].name;
  for (auto [first, none] : {std::pair(0u, 0xffffffffu), {1u, 0u}}) {
    Studied found = studied(folder_pack(files, first, none));
    std::erase_if(found.files, [](const File& file) { return file.data.empty(); });
    EXPECT_EQ(found.files, files) << found.draft;
    EXPECT_NE(found.draft.find("folder = any(x in items where x.parent == n"), std::string::npos)
        << found.draft;
  }
}

TEST(StudySearch, NamesEntriesByHashesOfNamesThatAreKnown) {
  std::vector<File> files = exhibits(30);
  OpenContext context;
  ByteWriter bytes;
  bytes.text("BAY7").u32(30);
  std::uint32_t at = 8 + 30 * 12;
  for (File& file : files) {
    file.name = "pool/" + file.name;
    context.known_names.push_back(file.name);
    bytes.u32(static_cast<std::uint32_t>(find_name_hash("fnv1a_32")->of(file.name))).u32(at);
    bytes.u32(file.data.size());
    at += static_cast<std::uint32_t>(file.data.size());
  }
  context.known_names.resize(20);  // of the others the names are not known
  for (const File& file : files) bytes.bytes(file.data);
  for (std::size_t i = 20; i < files.size(); ++i) files[i].name = fmt::format("{:04}.bin", i);
  Studied found = studied(bytes.view(), {}, context);
  EXPECT_EQ(found.files, files) << found.draft;
  EXPECT_NE(found.draft.find("known(fnv1a_32, item.hash)"), std::string::npos) << found.draft;
}

}  // namespace
}  // namespace operculum::study
