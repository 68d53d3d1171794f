#include "base/structure.h"

#include <gtest/gtest.h>

#include "base/text.h"
#include "support/refusal.h"

namespace operculum {
namespace {

struct Gauge {
  std::uint32_t mark = 0;
  std::uint16_t height = 0;
  std::uint64_t readings = 0;  // 3 bytes on disk
  std::array<Byte, 4> name{};
  std::uint8_t state = 0;

  static constexpr auto layout =
      little_endian(field("gauge mark", &Gauge::mark), field("height", &Gauge::height),
                    narrow_field<3>("reading count", &Gauge::readings), from_byte<12>(),
                    field("name", &Gauge::name), field("state", &Gauge::state));
};
static_assert(size_on_disk<Gauge> == 17);
static_assert(place_of(&Gauge::name).at == 12);

constexpr Byte kLittle[] = {4, 3, 2, 1, 6, 5, 9, 8, 7, 0xee, 0xee, 0xee, 'p', 'i', 'e', 'r', 1};

TEST(Structure, IsReadAndWrittenFromOneDeclaration) {
  auto gauge = read_structure<Gauge>(kLittle);
  EXPECT_EQ(gauge.mark, 0x01020304u);
  EXPECT_EQ(gauge.height, 0x0506u);
  EXPECT_EQ(gauge.readings, 0x070809u);
  EXPECT_EQ(as_text(gauge.name), "pier");
  EXPECT_EQ(gauge.state, 1u);
  Bytes out;
  append_structure(out, gauge);
  EXPECT_EQ(to_hex(out), "0403020106050908070000007069657201");  // what no field covers is zeros
  Bytes over(std::begin(kLittle), std::end(kLittle));
  gauge.state = 2;
  write_structure(gauge, over.data());
  EXPECT_EQ(to_hex(over),
            "04030201060509080"
            "7eeeeee7069657202");  // or stays as it was
}

TEST(Structure, IsReadInTheOtherByteOrder) {
  Bytes out;
  append_structure<Gauge, std::endian::big>(out, read_structure<Gauge>(kLittle));
  EXPECT_EQ(to_hex(out), "0102030405060708090000007069657201");
  EXPECT_EQ((read_structure<Gauge, std::endian::big>(out.data()).readings), 0x070809u);
  EXPECT_EQ(read_field(&Gauge::height, kLittle), 0x0506u);
}

/// A number in both byte orders, as discs have them.
struct Mark {
  std::uint16_t depth = 0;
  std::uint32_t place = 0;
  static constexpr auto layout =
      big_endian(both_orders("depth", &Mark::depth), both_orders("place", &Mark::place));
};
static_assert(size_on_disk<Mark> == 12);

TEST(Structure, HasNumbersInBothByteOrders) {
  Bytes out;
  append_structure(out, Mark{0x0102, 0x03040506});
  EXPECT_EQ(to_hex(out), "020101020605040303040506");
  out[3] = out[11] = 0xee;  // the first one counts
  auto mark = read_structure<Mark>(out.data());
  EXPECT_EQ(mark.depth, 0x0102u);
  EXPECT_EQ(mark.place, 0x03040506u);
}

TEST(Structure, WritesOneFieldAlone) {
  EXPECT_EQ(to_hex(written_field(&Mark::place, 7)), "0700000000000007");
  EXPECT_EQ(to_hex(written_field(&Gauge::readings, 0x010203)), "030201");
  EXPECT_EQ(to_hex(written_field(&Gauge::name, {'t', 'i', 'd', 'e'})), "74696465");
}

TEST(Structure, NamesAFieldAndItsPlaceWhenItIsRefused) {
  try {
    refuse_field("tide gauge", 100, &Gauge::height, "at most 20", "1286");
    FAIL() << "it was not refused";
  } catch (const Malformed& error) {
    EXPECT_STREQ(error.what(),
                 "tide gauge at offset 100: expected height (at 104) to be at most 20, found 1286");
  }
}

TEST(Structure, EndsWhereTheBytesEnd) {
  Cursor cursor(ByteView(kLittle).first(16), "tide gauge", 40);
  EXPECT_REFUSAL(read_structure<Gauge>(cursor), CutShort,
                 "tide gauge at offset 40: expected 17 more bytes, found 16; the file may be cut short");
}

}  // namespace
}  // namespace operculum
