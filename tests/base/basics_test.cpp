#include <gtest/gtest.h>

#include "base/background_sum.h"
#include "base/brief_text.h"
#include "base/checked.h"
#include "base/checksum.h"
#include "base/cursor.h"
#include "base/text.h"
#include "base/time.h"
#include "base/units.h"
#include "support/refusal.h"
#include "support/sample_tree.h"

namespace operculum {
namespace {

TEST(Cursor, ReadsBothByteOrders) {
  Bytes bytes = {1, 2, 3, 4, 5, 6, 7, 8, 0x12, 0x34, 0xff};
  Cursor cursor(bytes, "sample");
  EXPECT_EQ(cursor.u64le(), 0x0807060504030201u);
  EXPECT_EQ(cursor.u16be(), 0x1234u);
  EXPECT_EQ(cursor.u8(), 0xffu);
  EXPECT_TRUE(cursor.done());
}

TEST(Cursor, SaysWhereAndHowMuchIsMissing) {
  Bytes bytes = {1, 2, 3};
  Cursor cursor(bytes, "tide table", 100);
  cursor.skip(1);
  try {
    cursor.u32le();
    FAIL() << "read past the end";
  } catch (const CutShort& error) {
    EXPECT_STREQ(error.what(),
                 "tide table at offset 101: expected 4 more bytes, found 2; the file may be cut short");
  }
  EXPECT_REFUSAL(cursor.take(UINT64_MAX), Malformed,
                 "tide table at offset 101: expected 18446744073709551615 more bytes, found 2; the file may "
                 "be cut short");
}

TEST(Checked, RefusesWhatLeaves64Bits) {
  EXPECT_EQ(checked_add(1, 2, "x"), 3u);
  EXPECT_REFUSAL(checked_add(UINT64_MAX, 1, "x"), Malformed, "x is too large for any file");
  EXPECT_REFUSAL(checked_mul(UINT64_MAX / 2, 3, "x"), Malformed, "x is too large for any file");
}

TEST(Checksums, FitTheirPublishedCheckValues) {
  EXPECT_EQ(crc32(0, as_bytes("123456789")), 0xcbf43926u);
  EXPECT_EQ(sha256_hex(as_bytes("abc")), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

TEST(Checksums, OfTwoRunsCombine) {
  std::uint32_t first = crc32(0, as_bytes("12345")), second = crc32(0, as_bytes("6789"));
  EXPECT_EQ(crc32_combine(first, second, 4), 0xcbf43926u);
}

TEST(Times, OfDosAreFloatingAndCheckTheirRange) {
  Timestamp time = from_dos((46 << 9) | (3 << 5) | 1, (14 << 11) | (5 << 5) | 4);
  EXPECT_TRUE(time.floating);
  EXPECT_EQ(to_text(time), "2026-03-01 14:05:08");
  EXPECT_EQ(to_rfc3339(time), "2026-03-01T14:05:08");
  EXPECT_FALSE(from_dos((46 << 9) | (13 << 5) | 1, 0).known()) << "month 13";
  EXPECT_FALSE(from_dos(0, 0).known());
}

TEST(Times, OfNtfsAndUnixAreUtc) {
  EXPECT_EQ(to_rfc3339(from_filetime(134168475080000000)), "2026-03-01T14:05:08Z");
  EXPECT_EQ(to_rfc3339(from_unix(0, 5)), "1970-01-01T00:00:00.000000005Z");
  EXPECT_EQ(to_text(from_unix(-1)), "1969-12-31 23:59:59Z");
  EXPECT_EQ(to_text(from_unix(INT64_MAX - 5)), "-") << "no calendar reaches that far";
}

TEST(Units, ReadAndWriteSizes) {
  EXPECT_EQ(human_size(812), "812 B");
  EXPECT_EQ(human_size(1434), "1.4 KiB");
  EXPECT_EQ(human_size(1023ull << 30), "1023.0 GiB");
  EXPECT_EQ(parse_size("64K"), 65536u);
  EXPECT_EQ(parse_size("2 MiB"), 2u << 20);
  EXPECT_EQ(parse_size("7"), 7u);
  EXPECT_EQ(parse_size("7 fathoms"), std::nullopt);
  EXPECT_EQ(parse_size("99999999999 EiB"), std::nullopt);
  EXPECT_EQ(counted(1, "file", "files"), "1 file");
  EXPECT_EQ(counted(12345, "file", "files"), "12,345 files");
}

TEST(Units, ArticlesFollowTheSound) {
  EXPECT_EQ(with_article("ZIP archive"), "a ZIP archive");
  EXPECT_EQ(with_article("NTFS file system"), "an NTFS file system");
  EXPECT_EQ(with_article("ext2/ext3/ext4 file system"), "an ext2/ext3/ext4 file system");
  EXPECT_EQ(with_article("xz file"), "an xz file");
  EXPECT_EQ(with_article("FAT file system"), "a FAT file system");
  EXPECT_EQ(with_article("UDF disc"), "a UDF disc");
  EXPECT_EQ(with_article("SquashFS file system"), "a SquashFS file system");
  EXPECT_EQ(with_article("ISO 9660 disc"), "an ISO 9660 disc");
}

TEST(Time, IsReadAsAPersonTypesIt) {
  EXPECT_EQ(parse_time("2026-03-01 14:05:08Z")->seconds, 1772373908);
  EXPECT_FALSE(parse_time("2026-03-01 14:05:08Z")->floating);
  EXPECT_TRUE(parse_time("2026-03-01")->floating);
  EXPECT_EQ(parse_time("2026-03-01T14:05"), parse_time("2026-03-01 14:05:00"));
  for (const char* wrong : {"", "2026", "2026-02-30", "2026-03-01 25:00", "2026-03-01 x", "yesterday"})
    EXPECT_FALSE(parse_time(wrong)) << wrong;
}

TEST(BackgroundSum, GivesTheSameHoweverTheBytesCome) {
  Bytes bytes = test::noise(9'000'001, 5);
  std::unique_ptr<Sum> whole = find_sum("sha256")->make({});
  whole->add(bytes);
  const Bytes expected = whole->finish();
  for (std::size_t step : {std::size_t{1000}, std::size_t{262'144}, std::size_t{1'000'003}, bytes.size()}) {
    std::unique_ptr<Sum> sum = make_background_sum(find_sum("sha256")->make({}));
    for (std::size_t at = 0; at < bytes.size(); at += step)
      sum->add(ByteView(bytes).subspan(at, std::min(step, bytes.size() - at)));
    EXPECT_EQ(sum->finish(), expected) << step;
  }
}

TEST(BackgroundSum, MayBeGivenUpInTheMiddle) {
  std::unique_ptr<Sum> sum = make_background_sum(find_sum("md5")->make({}));
  for (int i = 0; i < 12; ++i) sum->add(Bytes(1 << 20, 'x'));
  sum.reset();
  std::unique_ptr<Sum> none = make_background_sum(find_sum("md5")->make({}));
  EXPECT_EQ(to_hex(none->finish()), "d41d8cd98f00b204e9800998ecf8427e");
}

TEST(BriefText, LeavesOutWhatIsLongerThanALine) {
  EXPECT_EQ(escape_briefly("mole\x1b"), "mole\\x1b");
  EXPECT_EQ(escape_briefly(std::string(80, 'x')), std::string(80, 'x'));
  EXPECT_EQ(escape_briefly(std::string(300, 'x')), std::string(80, 'x') + "...");
  EXPECT_EQ(escape_briefly(std::string(79, 'x') + "\xc3\xa4" + "tide"), std::string(79, 'x') + "...");
}

}  // namespace
}  // namespace operculum
