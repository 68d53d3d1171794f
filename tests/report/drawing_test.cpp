// Drawings as SVG and as PNG: the same shapes, in the colours of their styles.
#include "report/drawing.h"

#include <gtest/gtest.h>
#include <zlib.h>

#include <cstdlib>

#include "base/cursor.h"
#include "support/has.h"

namespace operculum {
namespace {

using test::has;

/// A picture as PNG (ISO 15948) has it: eight bits a colour, three colours a pixel, as the PNG of our
/// drawings is.
struct Picture {
  std::uint32_t width = 0, height = 0;
  Bytes rows;  ///< three bytes a pixel

  std::uint32_t at(std::uint32_t x, std::uint32_t y) const {
    const Byte* pixel = rows.data() + (std::size_t{y} * width + x) * 3;
    return static_cast<std::uint32_t>(pixel[0] << 16 | pixel[1] << 8 | pixel[2]);
  }
};

std::uint32_t big(ByteView bytes, std::size_t at) {
  return static_cast<std::uint32_t>(bytes[at] << 24 | bytes[at + 1] << 16 | bytes[at + 2] << 8 |
                                    bytes[at + 3]);
}

/// Undoes what a row was predicted from (section 9).
void undo_filter(unsigned kind, ByteSpan row, ByteView above) {
  for (std::size_t i = 0; i < row.size(); ++i) {
    int a = i < 3 ? 0 : row[i - 3], b = above[i], c = i < 3 ? 0 : above[i - 3], p = a + b - c;
    int pa = std::abs(p - a), pb = std::abs(p - b), pc = std::abs(p - c);
    int paeth = pa <= pb && pa <= pc ? a : pb <= pc ? b : c;
    const int kPredicted[] = {0, a, b, (a + b) / 2, paeth};
    row[i] = static_cast<Byte>(row[i] + kPredicted[kind]);
  }
}

Picture read_png(ByteView png) {
  EXPECT_TRUE(starts_with(png, "\x89PNG\r\n\x1a\n"));
  Picture out;
  Bytes packed;
  for (std::size_t at = 8; at + 12 <= png.size();) {
    std::uint32_t size = big(png, at);
    std::string_view kind = as_text(png.subspan(at + 4, 4));
    ByteView data = png.subspan(at + 8, size);
    if (kind == "IHDR") {
      out.width = big(data, 0);
      out.height = big(data, 4);
      EXPECT_EQ(data[8], 8);  // bits
      EXPECT_EQ(data[9], 2);  // red, green, blue
    }
    if (kind == "IDAT") packed.insert(packed.end(), data.begin(), data.end());
    at += 12 + size;
  }
  std::size_t row = std::size_t{out.width} * 3;
  Bytes plain(out.height * (row + 1)), above(row);
  uLongf length = plain.size();
  EXPECT_EQ(uncompress(plain.data(), &length, packed.data(), packed.size()), Z_OK);
  for (std::uint32_t y = 0; y < out.height; ++y) {
    ByteSpan line = ByteSpan(plain).subspan(y * (row + 1) + 1, row);
    undo_filter(plain[y * (row + 1)], line, above);
    above.assign(line.begin(), line.end());
    out.rows.insert(out.rows.end(), line.begin(), line.end());
  }
  return out;
}

Drawing tide_board() {
  Drawing out{60, 40, "a tide board"};
  out.box("dense", 10, 10, 20, 10, "high & low");
  out.box("inside", 40, 10, 10, 10);
  Shape curve{Shape::Kind::curve, "curve"};
  curve.points = {{0, 30}, {60, 30}};
  out.shapes.push_back(curve);
  return out;
}

TEST(Drawing, AsPngHasItsShapesInTheirColours) {
  auto png = png_of(tide_board());
  ASSERT_TRUE(png);
  Picture picture = read_png(*png);
  ASSERT_EQ(picture.width, 120u);
  ASSERT_EQ(picture.height, 80u);
  EXPECT_EQ(picture.at(2, 2), 0xF1F4F2u);    // the ground
  EXPECT_EQ(picture.at(40, 30), 0x7A6BB0u);  // within the box
  EXPECT_EQ(picture.at(19, 30), 0xF1F4F2u);  // left of it
  EXPECT_EQ(picture.at(90, 30), 0xF1F4F2u);  // an outline has nothing in it
  EXPECT_NE(picture.at(80, 30), 0xF1F4F2u);  // but a line
  EXPECT_EQ(picture.at(60, 60), 0x0B6E75u);  // the curve
}

TEST(Drawing, AsPngHasItsWordsWhereTheyAreAnchored) {
  auto dark_columns = [](Shape::Anchor anchor) -> std::pair<std::uint32_t, std::uint32_t> {
    Drawing drawing{100, 20, "words"};
    drawing.words("byte", 50, 14, "HHHH", anchor);
    auto png = png_of(drawing);
    Picture picture = read_png(png.value());
    std::uint32_t first = picture.width, last = 0;
    for (std::uint32_t y = 0; y < picture.height; ++y)
      for (std::uint32_t x = 0; x < picture.width; ++x)
        if ((picture.at(x, y) & 0xFF) < 0x80) first = std::min(first, x), last = std::max(last, x);
    return {first, last};
  };
  auto [begin_first, begin_last] = dark_columns(Shape::Anchor::begin);
  auto [middle_first, middle_last] = dark_columns(Shape::Anchor::middle);
  auto [end_first, end_last] = dark_columns(Shape::Anchor::end);
  EXPECT_LT(begin_first, begin_last);
  EXPECT_GE(begin_first, 100u);
  EXPECT_LE(end_last, 101u);
  EXPECT_LT(middle_first, 100u);
  EXPECT_GT(middle_last, 100u);
}

TEST(Drawing, AsSvgEscapesItsWordsAndStandsAloneOrInAPage) {
  std::string alone = svg_of(tide_board(), Drawn::alone), within = svg_of(tide_board(), Drawn::in_page);
  EXPECT_TRUE(has(within,
                  "<rect class=\"dense\" x=\"10\" y=\"10\" width=\"20\" height=\"10\"><title>high &amp; "
                  "low</title></rect>"));
  EXPECT_TRUE(has(within, "<path class=\"curve\" d=\"M0 30 L60 30\"/>")) << within;
  EXPECT_FALSE(has(within, "xmlns")) << within;
  EXPECT_TRUE(has(alone, "xmlns=\"http://www.w3.org/2000/svg\" width=\"60\" height=\"40\""));
  EXPECT_TRUE(has(alone, ".dense { fill: #7a6bb0")) << alone;
  EXPECT_TRUE(has(alone, "prefers-color-scheme: dark")) << alone;
}

}  // namespace
}  // namespace operculum
