// What is drawn of a file: its index.
#include "report/file_map.h"

#include <gtest/gtest.h>

#include <algorithm>

namespace operculum {
namespace {

TEST(IndexDrawing, GivesNamesOfVaryingLengthTheRoomThatTheyTake) {
  study::Hypothesis found;
  found.grid.shape = {.before = 4, .after = 0, .text = study::TextEnd::zero};
  found.grid.count = 2;
  found.grid.cells = {1, 0, 0, 0, 2, 0, 0, 0};
  found.grid.texts = {"crab.txt", "deep/the limpet of the northern mole.bin"};
  found.grid.starts = {0x10, 0x1D};
  Drawing drawing = index_drawing(found, Drawn::in_page);
  std::vector<Shape> names;
  std::copy_if(drawing.shapes.begin(), drawing.shapes.end(), std::back_inserter(names),
               [](const Shape& one) { return one.kind == Shape::Kind::box && one.style == "name"; });
  ASSERT_EQ(names.size(), 2u);
  EXPECT_EQ(names[0].width, 12 + 8 * 8 - 1);
  EXPECT_EQ(names[1].width, 12 + 8 * 28 - 1) << "what is very long is cut";
  EXPECT_GE(drawing.width, names[1].x + names[1].width);
  auto words = std::find_if(drawing.shapes.begin(), drawing.shapes.end(),
                            [](const Shape& one) { return one.words == "crab.txt"; });
  ASSERT_NE(words, drawing.shapes.end());
  EXPECT_EQ(words->x, names[0].x + (12 + 8 * 8) / 2);
}

}  // namespace
}  // namespace operculum
