// Structures that a file is shown by, field by field: each lies where its format says, and its numbers are
// what stands there.
#include <gtest/gtest.h>

#include <regex>

#include "base/text.h"
#include "container/identify.h"
#include "fuzz/seeds.h"
#include "support/open.h"

namespace operculum {
namespace {

/// The number that the bytes are, in one order or the other.
std::uint64_t number_of(ByteView bytes, bool big) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < bytes.size(); ++i) value = value << 8 | bytes[big ? i : bytes.size() - 1 - i];
  return value;
}

TEST(KnownRecords, ShowWhatStandsInTheFile) {
  const std::regex kNumber("([0-9]+) \\(0x[0-9a-f]+\\)");
  std::size_t numbers = 0;
  for (const auto& [name, bytes] : fuzz::seeds()) {
    Probe probe(make_memory_source(bytes), name);
    const Format* format = recognise(probe);
    if (format == nullptr) continue;
    for (const KnownRecord& record : format->records) {
      std::uint64_t at = record.from_end ? bytes.size() - record.at : record.at;
      ASSERT_LE(at + record.size, bytes.size()) << name << ", " << record.name;
      for (const FieldRow& row : record.rows(bytes.data() + at, at)) {
        EXPECT_FALSE(row.name.empty()) << name << ", " << record.name;
        ASSERT_LE(row.at + row.width, at + record.size) << row.name;
        std::smatch number_text;
        if (!std::regex_match(row.value, number_text, kNumber)) continue;
        auto number = parse_number(number_text[1].str());
        ByteView raw = ByteView(bytes).subspan(row.at, row.width);
        bool both = row.width % 2 == 0 && number_of(raw.first(row.width / 2), false) == *number;
        EXPECT_TRUE(both || number_of(raw, false) == *number || number_of(raw, true) == *number)
            << name << ", " << row.name << ": " << row.value;
        ++numbers;
      }
    }
  }
  EXPECT_GT(numbers, 100u);
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
