// A description tried on a file, without the program around it.
#include "task/layout_check.h"

#include <gtest/gtest.h>

#include "support/byte_writer.h"
#include "support/has.h"
#include "support/temp_folder.h"

namespace operculum {
namespace {

using namespace test;

struct LayoutTrials : testing::Test {
  TempFolder folder;
  OpenContext context;

  std::shared_ptr<const layout::Plan> plan(const std::string& text) {
    auto compiled = layout::compile({"test.layout", "layout \"Test\"\n" + text});
    EXPECT_TRUE(compiled.plan) << (compiled.problems.empty() ? "" : compiled.problems[0].text);
    return compiled.plan;
  }
  LayoutTrial trial(const std::string& text, const Bytes& bytes,
                    TrialWishes wishes = {{100, "", {}}, false, ""}) {
    return try_layout(plan(text), folder.write("file", bytes), wishes, context);
  }
};

constexpr const char* kTable = R"(
record Item { at u8; size u8; name text[2] }
record Head { magic bytes "TIDE"; count u8 }
head = Head at 0
items = Item[head.count] at 5
entry for i in items { path = i.name; data = bytes(i.at, i.size); size = i.size }
)";
Bytes table() {
  return ByteWriter()
      .text("TIDE")
      .u8(2)
      .u8(13)
      .u8(3)
      .text("aa")
      .u8(16)
      .u8(2)
      .text("bb")
      .text("ebb")
      .text("fl")
      .take();
}

std::vector<std::string> names(const LayoutTrial& trial) {
  std::vector<std::string> all;
  for (const auto& field : trial.fields) all.push_back(field.name);
  return all;
}

TEST_F(LayoutTrials, NoteEveryFieldAndByte) {
  LayoutTrial found = trial(kTable, table());
  EXPECT_EQ(found.failure, "");
  EXPECT_EQ(found.entries, 2u);
  EXPECT_EQ(found.size, 18u);
  EXPECT_EQ(names(found),
            (std::vector<std::string>{"head.magic", "head.count", "items[0].at", "items[0].size",
                                      "items[0].name", "items[1].at", "items[1].size", "items[1].name"}));
  auto bytes = bytes_by_kind(found.ranges);
  EXPECT_EQ(bytes[0], 5u) << "header";
  EXPECT_EQ(bytes[1], 8u) << "index";
  EXPECT_EQ(bytes[2], 5u) << "entry data";
  EXPECT_EQ(bytes[4], 0u) << "unexplained";
}

TEST_F(LayoutTrials, KeepOnlyWhatIsWished) {
  EXPECT_EQ(names(trial(kTable, table(), {{100, "name", {}}, false, ""})),
            (std::vector<std::string>{"items[0].name", "items[1].name"}));
  EXPECT_EQ(names(trial(kTable, table(), {{100, "", 9}, false, ""})),
            (std::vector<std::string>{"items[1].at"}));
  LayoutTrial few = trial(kTable, table(), {{3, "", {}}, false, ""});
  EXPECT_EQ(few.fields.size(), 3u);
  EXPECT_EQ(few.fields_left_out, 5u);
}

TEST_F(LayoutTrials, ShowOneEntry) {
  LayoutTrial found = trial(kTable, table(), {{100, "", {}}, false, "bb"});
  std::vector<std::string> shown = names(found);
  EXPECT_EQ(shown,
            (std::vector<std::string>{"Item[1].at", "Item[1].size", "Item[1].name", "path", "data", "size"}));
  EXPECT_EQ(found.fields[3].value, "\"bb\"");
  EXPECT_FALSE(found.fields[3].offset) << "it was worked out";
  EXPECT_EQ(found.fields[4].value, "2 bytes at 0x10");
  EXPECT_EQ(found.compared, 0u) << "only one entry is looked at";
}

TEST_F(LayoutTrials, EndWithWhatCannotBeRead) {
  Bytes cut = table();
  cut.resize(11);
  LayoutTrial found = trial(kTable, cut);
  EXPECT_TRUE(has(found.failure, "a table of 2 elements of 4 bytes at offset 5 does not fit"))
      << found.failure;
  ASSERT_FALSE(found.fields.empty());
  EXPECT_EQ(found.fields.back().name, "items");
  EXPECT_TRUE(has(found.fields.back().value, "cannot be read")) << found.fields.back().value;
}

TEST_F(LayoutTrials, CompareTheFirstChecksums) {
  std::string text = std::string(kTable);
  text.insert(text.rfind("size = i.size"), "check sum8 of data = if i.at == 13 then 0x29 else 7; ");
  LayoutTrial found = trial(text, table());
  EXPECT_EQ(found.compared, 1u);
  ASSERT_EQ(found.findings.size(), 1u);
  EXPECT_TRUE(has(found.findings[0].text, "bb: sum8 differs")) << found.findings[0].text;
}

TEST_F(LayoutTrials, FollowDecodedPartsAndOtherFiles) {
  folder.write("beside", to_bytes("__pinch_"));
  LayoutTrial found =
      trial("n = u8 at 0\nentry { path = \"a\"; data = part(file(\"beside\"), 2, n) }\n", Bytes{5});
  ASSERT_EQ(found.others.size(), 1u);
  EXPECT_EQ(found.others[0].name, "beside");
  EXPECT_EQ(found.others[0].size, 8u);
  auto bytes = bytes_by_kind(found.others[0].ranges);
  EXPECT_EQ(bytes[2], 5u);
  EXPECT_EQ(bytes[4], 3u);
}

TEST_F(LayoutTrials, RecognitionIsToldInWords) {
  EXPECT_EQ(recognition_of(*plan(kTable)),
            (std::vector<std::string>{"files are recognised by 4 constant bytes"}));
  auto weak =
      recognition_of(*plan("suffix .tide .ebb\nn = u8 at end - 1\nentry { path = \"a\"; data = rest(0) }\n"));
  ASSERT_EQ(weak.size(), 2u);
  EXPECT_EQ(weak[0], "files are recognised by 0 constant bytes and their names (.tide .ebb)");
  EXPECT_TRUE(has(weak[1], "cut short"));
  auto one = recognition_of(
      *plan("record H { m bytes \"x\" }\nh = H at 0\nentry { path = \"a\"; data = rest(0) }\n"));
  EXPECT_TRUE(
      has(one[0], "1 constant byte, which is too little, and no suffix is stated: only with --layout"))
      << one[0];
}

TEST_F(LayoutTrials, RolesTellTheirFields) {
  auto roles = roles_back(*plan(kTable));
  auto role = [&](const std::string& name) -> const RoleBack& {
    return *std::find_if(roles.begin(), roles.end(), [&](const RoleBack& one) { return one.role == name; });
  };
  EXPECT_EQ(role("path").fields, "Item.name");
  EXPECT_EQ(role("path").obstacle, "");
  EXPECT_EQ(role("data").fields, "Item.at, Item.size");
  EXPECT_EQ(role("size").fields, "Item.size");
}

}  // namespace
}  // namespace operculum
