#include "task/name_template.h"

#include <gtest/gtest.h>

#include "base/error.h"
#include "support/open.h"
#include "support/zip_builder.h"

namespace operculum {
namespace {

using namespace test;

struct NameTemplates : testing::Test {
  Held held = open_bytes(ZipBuilder().add("pool/deep/crab.txt", "pinch").comment("the north pool").build(),
                         "charts.zip");

  std::string name(const std::string& text) {
    const Entry& entry = held->entries()[0];
    return NameTemplate(text).name_for(entry, std::string(entry.path), 7, *held, "charts.zip");
  }
  std::string refusal(const std::string& text) {
    try {
      name(text);
      return "";
    } catch (const Malformed& error) {
      return error.what();
    }
  }
};

TEST_F(NameTemplates, PutInWhatIsKnown) {
  EXPECT_EQ(name("{path}"), "pool/deep/crab.txt");
  EXPECT_EQ(name("{folder}/x{ending}"), "pool/deep/x.txt");
  EXPECT_EQ(name("{name}-{number}"), "crab-7");
  EXPECT_EQ(name("plain"), "plain");
  EXPECT_EQ(name("{crc32}{ending}").size(), 8u + 4u);
  EXPECT_EQ(name("{comment}"), "the north pool") << "a fact of the container";
}

TEST_F(NameTemplates, SayWhatIsNotKnown) {
  EXPECT_NE(refusal("{tide}").find("tide"), std::string::npos) << refusal("{tide}");
  EXPECT_NE(refusal("{name").find("{"), std::string::npos);
}

}  // namespace
}  // namespace operculum
