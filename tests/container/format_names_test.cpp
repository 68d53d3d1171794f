// Formats by the endings of names.
#include <gtest/gtest.h>

#include "container/format.h"
#include "container/identify.h"
#include "layout/compile.h"
#include "layout/described_format.h"

namespace operculum {
namespace {

std::string id_of(std::string_view name, const OpenContext* context = nullptr) {
  const Format* format = format_for_name(name, context);
  return format == nullptr ? "none" : std::string(format->id);
}

TEST(FormatForName, GoesByTheEndingWhateverItsCase) {
  EXPECT_EQ(id_of("tide.zip"), "zip");
  EXPECT_EQ(id_of("pool/TIDE.ZIP"), "zip");
  EXPECT_EQ(id_of("a.b.c.zip"), "zip");
  EXPECT_EQ(id_of("tide.txt"), "none");
  EXPECT_EQ(id_of("tide"), "none");
  EXPECT_EQ(id_of(""), "none");
}

TEST(FormatForName, AnEndingIsNotTheWholeNameNorAFolder) {
  EXPECT_EQ(id_of(".zip"), "none");
  EXPECT_EQ(id_of("tide.zip/readme"), "none");
  EXPECT_EQ(id_of("tide.zip/readme.txt"), "none");
  EXPECT_EQ(id_of("zip"), "none");
}

TEST(FormatForName, IsTheFirstFormatThatHasTheEnding) {
  for (const Format& format : formats()) {
    for (std::string_view suffix : format.suffixes) {
      std::string name = "x" + std::string(suffix);
      auto first = std::find_if(formats().begin(), formats().end(),
                                [&](const Format& one) { return name_fits(one, name); });
      ASSERT_NE(first, formats().end()) << name;
      EXPECT_EQ(id_of(name), first->id) << name;
    }
  }
}

TEST(FormatForName, NamedDescriptionsComeFirstAndOthersLast) {
  auto plan =
      layout::compile(
          {"own.layout", "layout \"Own\"\nsuffix .zip .strand\nentry { path = \"a\"; data = rest(0) }\n"})
          .plan;
  ASSERT_TRUE(plan);
  OpenContext context;
  std::vector<Format> found = {layout::described_format(plan, layout::Chosen::by_content)};
  context.described = [&] { return std::span<const Format>(found); };
  EXPECT_EQ(id_of("a.zip", &context), "zip");
  EXPECT_EQ(id_of("a.strand", &context), "own");
  EXPECT_EQ(id_of("a.strand"), "none") << "nobody told of it";
  context.preferred.push_back(layout::described_format(plan, layout::Chosen::by_user));
  EXPECT_EQ(id_of("a.zip", &context), "own");
}

}  // namespace
}  // namespace operculum
