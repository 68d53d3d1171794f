// Structures that a file is shown by, field by field: each lies where its format says, and its numbers are
// what stands there.
#include <gtest/gtest.h>

#include <regex>

#include "base/field_rows.h"
#include "base/text.h"
#include "container/identify.h"
#include "fuzz/seeds.h"
#include "io/file_source.h"
#include "support/kernel_images.h"
#include "support/open.h"

namespace operculum {
namespace {

using namespace test;

/// The number that the bytes are, in one order or the other.
std::uint64_t number_of(ByteView bytes, bool big) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < bytes.size(); ++i) value = value << 8 | bytes[big ? i : bytes.size() - 1 - i];
  return value;
}

/// Compares what is shown of a file with its bytes; returns how many numbers were compared.
std::size_t compare_shown(const std::string& name, const SourcePtr& file, const Format& format) {
  static const std::regex kNumber("([0-9]+) \\(0x[0-9a-f]+\\)");
  std::size_t numbers = 0, shown = 0;
  Probe probe(file, name);
  for (const KnownRecord& record : format.records) {
    PlacedFields found = record.find(probe);
    if (!found.rows.empty()) ++shown;
    for (const FieldRow& row : found.rows) {
      EXPECT_FALSE(row.name.empty()) << name << ", " << record.name;
      EXPECT_GE(row.at, found.at) << name << ", " << row.name;
      Bytes raw = read_up_to(*file, row.at, row.width);
      if (raw.size() != row.width) ADD_FAILURE() << name << ", " << row.name << " lies behind the end";
      std::smatch number_text;
      if (!std::regex_match(row.value, number_text, kNumber)) continue;
      auto number = parse_number(number_text[1].str());
      bool both = row.width % 2 == 0 && number_of(ByteView(raw).first(row.width / 2), false) == *number;
      EXPECT_TRUE(both || number_of(raw, false) == *number || number_of(raw, true) == *number)
          << name << ", " << row.name << ": " << row.value;
      ++numbers;
    }
  }
  EXPECT_TRUE(format.records.empty() || shown > 0) << name << ": nothing is shown";
  return numbers;
}

TEST(KnownRecords, ShowWhatStandsInTheFile) {
  std::size_t numbers = 0;
  for (const auto& [name, bytes] : fuzz::seeds()) {
    SourcePtr file = make_memory_source(bytes);
    Probe probe(file, name);
    if (const Format* format = recognise(probe)) numbers += compare_shown(name, file, *format);
  }
  EXPECT_GT(numbers, 250u);
}

/// A field of the first record that has it, as it is shown.
std::string shown_field(const std::string& set, const std::string& file, std::string_view field) {
  KernelImages images(set);
  Held held = images.open(file);
  SourcePtr bytes = open_file(images.path(file));
  EXPECT_GT(compare_shown(set, bytes, *held.opened.format), 0u) << set;
  Probe probe(bytes, file);
  for (const KnownRecord& record : held.opened.format->records)
    for (const FieldRow& row : record.find(probe).rows)
      if (row.name == field) return row.value;
  return "not shown";
}

TEST(KnownRecords, AreFoundWhereTheFileTellsTheirPlaceOrOrder) {
  struct Case {
    std::string set, file;
    std::string_view field, value;
  } cases[] = {
      {"befs", "befs.img", "magic1", "1111905073 (0x42465331)"},
      {"befs-big", "befs-big.img", "magic1", "1111905073 (0x42465331)"},
      {"minix1", "minix1.img", "s_magic", "5007 (0x138f)"},
      {"minix3", "minix3.img", "s_magic", "19802 (0x4d5a)"},
      {"qnx6", "qnx6.img", "sb_magic", "1746473250 (0x68191122)"},
      {"qnx6-big", "qnx6-big.img", "sb_magic", "1746473250 (0x68191122)"},
      {"reiser", "reiser.img", "s_magic", "\"ReIsEr2Fs\""},
      {"md-1", "md-1.0", "major_version", "1"},
      {"luks-1", "luks-1.img", "cipher-name", "\"aes\""},
      {"luks-2-two", "luks-2-two.img", "version", "2"},
      {"lvm", "pv0.lv", "type", "\"LVM2 001\""},
  };
  for (const Case& one : cases) EXPECT_EQ(shown_field(one.set, one.file, one.field), one.value) << one.set;
}

TEST(KnownRecords, TextsAreShownAsTextsAndOtherBytesAsDigits) {
  EXPECT_EQ(field_value(7), "7");
  EXPECT_EQ(field_value(4096), "4096 (0x1000)");
  EXPECT_EQ(field_value(as_bytes(std::string_view("gauge\0\0", 7))), "\"gauge\"");
  EXPECT_EQ(field_value(as_bytes("SALTMARSH   ")), "\"SALTMARSH\"");
  EXPECT_EQ(field_value(as_bytes("QFI\xfb")), "51 46 49 fb");
}

}  // namespace
}  // namespace operculum
