// What is wrong in a description is told with its place, and a hint.
#include "layout/compile.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "layout/library.h"
#include "layout/plan/functions.h"
#include "layout/run/step.h"
#include "layout/text/words.h"

namespace operculum::layout {
namespace {

/// The first problem as it is shown.
std::string problem(const std::string& body) {
  Compiled compiled = compile({"reef.layout", "layout \"Reef\"\n" + body});
  if (compiled.problems.empty()) return "";
  return compiled.problems.empty()
             ? ""
             : Description{"reef.layout", "layout \"Reef\"\n" + body}.show(compiled.problems[0]);
}

TEST(Compile, ShowsTheLineACaretAndAHint) {
  EXPECT_EQ(problem("record Header {\n  count u23\n}\n"),
            "reef.layout:3:9: error: \"u23\" is no type\n    count u23\n          ^^^\n  hint: did you mean "
            "u24?\n");
}

struct Mistake {
  const char* body;
  const char* says;
};
struct Mistakes : testing::TestWithParam<Mistake> {};
TEST_P(Mistakes, AreTold) {
  EXPECT_NE(problem(GetParam().body).find(GetParam().says), std::string::npos) << GetParam().body << "\n"
                                                                               << problem(GetParam().body);
}

constexpr const char* kEntry = "entry { path = \"x\"\ndata = rest(0) }\n";

INSTANTIATE_TEST_SUITE_P(
    All, Mistakes,
    testing::Values(
        Mistake{"record H { a u8 }\nh = H at 0\nentry { path = h.b\ndata = rest(0) }",
                "a H record has no field \"b\""},
        Mistake{"record H { count u8 }\nh = H at 0\nentry { path = \"{h.cuont}\"\ndata = rest(0) }",
                "did you mean count?"},
        Mistake{"a = b + 1\nb = 2", "\"b\" is not known yet"},
        Mistake{"a = b + 1\nb = 2", "it is defined further down, in line 3"},
        Mistake{"record H { a u8[n]\nn u8 }\nh = H at 0", "\"n\" is not known here"},
        Mistake{"a = 1 + \"x\"", "expected a number, found a text"},
        Mistake{"a = if 1 then 2 else 3", "expected a condition, found a number"},
        Mistake{"a = if true then 2 else \"x\"", "one way gives a number, the other a text"},
        Mistake{"a = rest(0) | inflate", "there is no codec or cipher \"inflate\""},
        Mistake{"a = rest(0) | xor", "xor needs its key"},
        Mistake{"a = rest(0) | lzss(widow = 3)", "lzss has no \"widow\""},
        Mistake{"a = lenght(rest(0))", "did you mean length?"},
        Mistake{"a = \"abc", "this text has no closing quote"},
        Mistake{"a = \"{b\"", "this \"{\" has no \"}\""}, Mistake{"a = 12x", "is no number of 64 bits"},
        Mistake{"a = (1 + 2", "expected \")\""}, Mistake{"a == 1", "begins no statement"},
        Mistake{"entrie { }", "did you mean entry?"},
        Mistake{"entry { data = rest(0) }", "this entry has no path"},
        Mistake{"entry { path = \"x\" }", "this entry has no data"},
        Mistake{"entry { path = \"x\"\nsise = 1 }", "did you mean size?"},
        Mistake{"entry for i in 5 { path = \"x\"\ndata = rest(0) }", "an entry rule goes through a list"},
        Mistake{"define f(x) = f(x)\na = f(1)", "it must say what it gives"},
        Mistake{"record H { a u8 / 0 }\nh = H at 0", "a division by zero"},
        Mistake{"a = u32", "does not say where it is read"},
        Mistake{"record H { a u8 }\na = H", "does not say where it is read"},
        Mistake{"record R { a R }\nr = R at 0\nentry { path = \"{r.a.b}\"\ndata = rest(0) }",
                "has no field \"b\""},
        Mistake{"record H { a bits u8 { x: 5, y: 5 } }\nh = H at 0", "do not fit"},
        Mistake{"check crc33 of rest(0) = 1", "there is no checksum \"crc33\""},
        Mistake{"record H { a text[3] encoded KOI99 }\nh = H at 0", "the encoding \"KOI99\" is not known"},
        Mistake{"record h { a u8 }", "begins with a capital letter"},
        Mistake{"a = known(md9, 1)", "expected the name of a hash function"},
        Mistake{"a = cut(rest(0), 5)", "cut takes a list of sizes here, found a number"},
        Mistake{"a = lists(range(0, 1), 5)", "lists takes lists, found a number"},
        Mistake{"a = offset_of(5)", "offset_of takes a record or a list, found a number"},
        Mistake{"a = known(crc32, 1, upper)", "expected lower, or nothing"},
        Mistake{"a = key(\"x\")", "this does not say how a key that fits is told"},
        Mistake{"a = next_of(1, 2)", "next_of needs the variable of a loop in its first value"},
        Mistake{"a = min(a = 1, b = 2)", "min takes its values by position"},
        Mistake{"a = bytes(length = 1, at = 2)", "bytes takes its values by position"},
        Mistake{"define f(x) = x\na = f(x = 1)", "f takes its values by position"},
        Mistake{"a = length()", "length takes 1 value, found 0"},
        Mistake{"a = range(1, 2, 3)", "range takes 2 values, found 3"},
        Mistake{"a = next_of(1)", "next_of takes 2 values, found 1"},
        Mistake{"a = Hx at 0", "there is no record \"Hx\""},
        Mistake{"record H {\n 5\n}", "a field is a name and a type: count u32"},
        Mistake{"record H {\n a bytes[4] | zlib | zlib\n}", "a field takes one codec or cipher"},
        Mistake{"record H {\n a u8\n let seek = 1\n}\nh = H at 0", "\"seek\" is a word of the language"},
        Mistake{"record H {\n a bits u8 { seek: 5 }\n}\nh = H at 0", "\"seek\" is a word of the language"},
        Mistake{"record H {\n k u8\n when k == 1 {\n x u8\n } else {\n x text[3]\n }\n}\nh = H at 0",
                "\"x\" is a number above and a text here"},
        Mistake{"a = join(i in range(0, 3))", "join puts runs of bytes together; these are a number"},
        Mistake{"a = 5 | zlib", "expected bytes, found a number"},
        Mistake{"a = bytes(0, 4) | choose 1 { 1: zlib 2: zlib }", "expected \",\" or a new line"},
        Mistake{"a = hash(\"crc32\", 5)", "expected bytes or a text, found a number"},
        Mistake{"define f(x) = x\na = f(1, 2)", "f takes 1 values, found 2"},
        Mistake{"define f(x) = x\na = f(\"t\")", "f expects a number here, found a text"},
        Mistake{"a = rest(0) | choose rest(0) { 0: stored }", "choose takes a number or a text, found bytes"},
        Mistake{"a = rest(0) | zlib(1)", "zlib takes 0 values at the most"},
        Mistake{"a = rest(0) | xor(file_size)", "expected bytes, a text, or one byte as a constant number"},
        Mistake{"a = first(x in 5 where x == 1)", "first goes through a list or bytes; this is a number"},
        Mistake{"a = here", "\"here\" is only known within a record"},
        Mistake{"a = length", "\"length\" is a function"},
        Mistake{"a = 5\nb = a.c", "this is a number; only records have fields"},
        Mistake{"a = \"{rest(0)}\"", "bytes cannot stand in a text"},
        Mistake{"b = \"x\"\na = \"{b:03}\"", "only numbers take a form such as 03 or 08x"},
        Mistake{"a = \"{file_size:zz}\"", "\"zz\" is no form of a number"},
        Mistake{"a = 1 == \"x\"", "a number and a text cannot be compared"},
        Mistake{"a = 1 in {1, \"x\"}", "a number and a text cannot be compared"},
        Mistake{"b = 5\na = b[0]", "this is a number, not a list"},
        Mistake{"b = 5\na = b[0..1]", "this is a number, not a list, a text or bytes"},
        Mistake{"a = []", "a list in brackets needs at least one element"},
        Mistake{"a = each(x in tree(y in 5 by range(0, 1)): x)",
                "a tree begins with a list; this is a number"},
        Mistake{"record H { a bytes[-1] }\nh = H at 0", "a length cannot be negative"},
        Mistake{"record H { a text[3] in 1..2 }\nh = H at 0", "a text lies in no range"},
        Mistake{"record H { a bytes \"\" }\nh = H at 0", "expected at least one byte"},
        Mistake{"record H { a bytes[3] = \"x\" }\nh = H at 0", "bytes take no condition here"},
        Mistake{"record R(a) { b u8 }\nr = R(1, 2) at 0", "R takes 1 values, found 2"},
        Mistake{"record R(a) { b u8 }\nr = R(\"x\") at 0", "R expects a number here, found a text"},
        Mistake{"fact x = rest(0)", "a fact is a text, a number or a time; this is bytes"},
        Mistake{"length = 5", "\"length\" is a function; choose another name"},
        Mistake{"entry { path = \"x\"\npath = \"y\"\ndata = rest(0) }", "\"path\" is given twice"},
        Mistake{"check sum8(1) of rest(0) = 1", "sum8 takes no parameters"},
        Mistake{"define f(x: nmber) = x\na = f(1)", "\"nmber\" is no kind of value"},
        Mistake{"define f(x): text = x\na = f(1)", "this gives a number, not a text"},
        Mistake{"a = trail(\"x\", \"/\")", "trail needs the variable of a loop"},
        Mistake{"a = 1\na = 2", "\"a\" is defined twice"},
        Mistake{"record H { let a = here }\nb = here", "only known within a record"}));

TEST(Compile, FindsEveryMistakeAndTellsNoneTwice) {
  Compiled compiled = compile(
      {"x.layout",
       std::string("layout \"X\"\na = nope\nb = a + 1\nrecord H {\n c u99\n d u8\n}\nh = H at \"z\"\n") +
           kEntry});
  std::string all;
  for (const Problem& one : compiled.problems) all += one.text + "; ";
  EXPECT_EQ(all, "\"nope\" is not known here; \"u99\" is no type; expected a number, found a text; ");
  EXPECT_EQ(compiled.plan, nullptr);
}

TEST(Compile, WhatIsNoDescriptionIsToldBriefly) {
  std::string line;
  for (int i = 0; i < 20'000; ++i) line += "\x01 @ ";
  Description description{"x.layout", "layout \"X\"\n" + line};
  Compiled compiled = compile(description);
  ASSERT_EQ(compiled.problems.size(), 101u);
  EXPECT_NE(compiled.problems.back().text.find("more problems are not shown"), std::string::npos);
  std::size_t told = 0;
  for (const Problem& one : compiled.problems) told += description.show(one).size();
  EXPECT_LT(told, 101 * 1000u);
  std::string middle = description.show({Problem::Level::error, {description.text.size() / 2, 1}, "odd", ""});
  EXPECT_NE(middle.find("^"), std::string::npos);
  EXPECT_EQ(compiled.plan, nullptr);
}

TEST(Compile, WarnsOfWhatIsNeverUsed) {
  Compiled compiled = compile(
      {"x.layout", std::string("layout \"X\"\nrecord Unused { a u8 }\ndefine twice(n) = n * 2\n") + kEntry});
  ASSERT_EQ(compiled.problems.size(), 2u);
  EXPECT_EQ(compiled.problems[0].text, "\"Unused\" is never used");
  EXPECT_EQ(compiled.problems[0].level, Problem::Level::warning);
  EXPECT_NE(compiled.plan, nullptr);
}

TEST(Compile, SurvivesDeepNestingAndGarbage) {
  for (const std::string& text :
       {std::string(5000, '('), std::string(5000, '{'), "a = " + std::string(5000, '-') + "1",
        std::string("\0\xff\x80", 3), "record A { " + std::string(200, '\n') + "when true {",
        std::string("a = \"{{{{{x")}) {
    Compiled compiled = compile({"x.layout", "layout \"X\"\n" + text});
    EXPECT_EQ(compiled.plan, nullptr);
    EXPECT_FALSE(compiled.problems.empty());
  }
}

TEST(Compile, EveryDescriptionSurvivesEveryCut) {
  for (const auto& item : std::filesystem::directory_iterator(std::string(OPERCULUM_SOURCE) + "/layouts")) {
    if (item.path().extension() != ".layout") continue;
    std::ifstream file(item.path());
    std::stringstream text;
    text << file.rdbuf();
    Compiled whole = compile({"x.layout", text.str()});
    EXPECT_NE(whole.plan, nullptr) << item.path();
    EXPECT_TRUE(whole.problems.empty()) << item.path() << ": " << whole.problems[0].text;
    for (std::size_t size = 0; size < text.str().size(); size += 3)
      compile({"x.layout", text.str().substr(0, size)});
  }
}

std::string read_file(const std::string& path) {
  std::ifstream file(std::string(OPERCULUM_SOURCE) + "/" + path);
  std::stringstream text;
  text << file.rdbuf();
  return text.str();
}

TEST(Editors, KnowEveryWordOfTheLanguage) {
  std::string syntax = " " + read_file("editors/vim/syntax/operculum-layout.vim") + " ";
  std::replace(syntax.begin(), syntax.end(), '\n', ' ');
  auto knows = [&](std::string_view word) {
    return syntax.find(" " + std::string(word) + " ") != std::string::npos;
  };
  for (auto words :
       {statement_words(), field_words(), modifier_words(), number_types(), role_words(), list_words()}) {
    for (std::string_view word : words) EXPECT_TRUE(knows(word)) << word;
  }
  for (const Function& function : built_in_functions()) EXPECT_TRUE(knows(function.name)) << function.name;
  for (const StepKind& step : step_kinds()) EXPECT_TRUE(knows(step.name)) << step.name;
  EXPECT_FALSE(knows("inflate"));
}

TEST(Reference, ListsEveryWordOfTheLanguage) {
  std::string reference = read_file("docs/layout-language.md");
  auto lists = [&](std::string_view word) {
    return reference.find("`" + std::string(word)) != std::string::npos;
  };
  for (auto words : {statement_words(), field_words(), role_words(), list_words()}) {
    for (std::string_view word : words) EXPECT_TRUE(lists(word)) << word;
  }
  for (const Function& function : built_in_functions()) EXPECT_TRUE(lists(function.name)) << function.name;
  for (const StepKind& step : step_kinds()) {
    EXPECT_TRUE(lists(step.name)) << step.name;
    for (const StepParameter& parameter : step.parameters)
      EXPECT_NE(reference.find(parameter.name), std::string::npos) << step.name << " " << parameter.name;
  }
}

}  // namespace
}  // namespace operculum::layout
