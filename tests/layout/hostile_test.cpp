// Descriptions by strangers: neither deep nor costly enough to end the program, and no way to a key.
#include <gtest/gtest.h>

#include "support/has.h"
#include "support/language_case.h"

namespace operculum::test {
namespace {

std::string repeated(std::string_view part, int times) {
  std::string text;
  for (int i = 0; i < times; ++i) text += part;
  return text;
}

const std::string kEntry = "\nentry {\n  path = \"a\"\n  data = bytes(0, 4)\n}\n";

TEST(HostileDescription, DepthIsRefusedInASentence) {
  Bytes bytes(100);
  EXPECT_TRUE(
      has(Described("a = " + repeated("1+", 20000) + "1" + kEntry, bytes).error(), "hang on one another"));
  EXPECT_TRUE(has(Described("a = 1" + repeated(".x", 20000) + kEntry, bytes).error(), "hang on one another"));
  EXPECT_TRUE(
      has(Described("a = " + repeated("not ", 50000) + "true" + kEntry, bytes).error(), "nested too deeply"));
  EXPECT_TRUE(has(Described("a = " + repeated("if 1 then ", 5000) + "1" + kEntry, bytes).error(),
                  "nested too deeply"));
  EXPECT_TRUE(
      has(Described("a = " + repeated("-", 5000) + "1" + kEntry, bytes).error(), "nested too deeply"));
  EXPECT_TRUE(
      has(Described("a = " + repeated("(", 5000) + "1" + kEntry, bytes).error(), "nested too deeply"));
  EXPECT_TRUE(has(Described("record R {\n a u8" + repeated("[1]", 50000) + "\n}" + kEntry, bytes).error(),
                  "lists within each other"));
  EXPECT_TRUE(has(Described("a = bytes(0, 4)" + repeated(" | rotate(1)", 20000) + kEntry, bytes).error(),
                  "hang on one another"));
}

TEST(HostileDescription, AfterAProblemTheNextStatementIsReadAsUsual) {
  std::string text = repeated("a = ((((((((((1\n", 30) + "b = ((1))" + kEntry;
  EXPECT_FALSE(has(Described(text, Bytes(100)).error(), "nested too deeply"));
}

TEST(HostileDescription, ALongFormIsReadOnce) {
  Described form("a = \"" + repeated("{1}", 20000) + "\"\nfact a = a" + kEntry, Bytes(100));
  EXPECT_EQ(form.facts(), "a=" + repeated("1", 20000));
}

TEST(HostileDescription, FormsMayHoldBracesOfTheirOwn) {
  EXPECT_EQ(Described("fact a = \"{if 1 in {1, 2} then 3 else 4}-{5}\"" + kEntry, Bytes(100)).facts(),
            "a=3-5");
}

TEST(HostileDescription, WorkIsWeighedByBytes) {
  Bytes million(1'000'000);
  EXPECT_TRUE(
      has(Described("a = sum(i in range(0, 2000): crc32(sha256(bytes(0, 1000000))))\nfact a = a" + kEntry,
                    million)
              .error(),
          "steps on this file"));
  std::string zeros =
      Described("a = sum(i in range(0, 100000): length(zeros(16000000)))\nfact a = a" + kEntry, million)
          .error();
  EXPECT_TRUE(has(zeros, "more than 128 MiB") || has(zeros, "steps on this file")) << zeros;
  std::string text(1000, 'a');
  std::string grown = Described("t = text(bytes(0, 100000))\nu = replace(t, \"a\", t)\nfact u = u" + kEntry,
                                Bytes(100'000, Byte{'a'}))
                          .error();
  EXPECT_TRUE(has(grown, "more than 16 MiB")) << grown;
}

TEST(HostileDescription, WhatCannotBeReadIsToldWithItsLine) {
  auto told = [](const std::string& text, Bytes bytes = Bytes(100)) {
    return Described(text + kEntry, std::move(bytes)).error();
  };
  EXPECT_TRUE(has(told("record H {\n seek 500\n a u8\n}\nh = H at 0\nfact a = h.a"),
                  "offset 500 lies outside the 100 bytes that can be read"));
  EXPECT_TRUE(has(told("record H {\n a leb128\n}\nh = H at 0\nfact a = h.a", Bytes(20, Byte{0xff})),
                  "a variable-length number at offset 0 has more than 64 bits"));
  EXPECT_TRUE(
      has(told("record H {\n a text[2000000]\n}\nh = H at 0\nfact a = h.a", Bytes(3'000'000, Byte{'a'})),
          "a text of 2000000 bytes; more than 1 MiB is no name"));
  EXPECT_TRUE(has(told("fact a = text(bytes(0, 20000000))", Bytes(20'000'000)),
                  "more than 16 MiB are looked at as one value"));
  EXPECT_TRUE(has(told("fact a = since(\"2026-13-01\", 5)"), "\"2026-13-01\" is no date"));
  EXPECT_TRUE(has(told("fact a = checksum(\"adler32\", bytes(0, 4), 1)"), "takes 0 parameters, found 1"));
  Described many("record H {\n a leb128\n}\nh = H[20] at 0\nfact a = h[3].a" + kEntry, Bytes(100),
                 [](OpenContext& context) { context.limits.max_entries = 10; });
  EXPECT_TRUE(has(many.error(), "a list of more than 10 elements")) << many.listing();
}

TEST(HostileDescription, AKeyNeedsAConditionAndGoesToCiphersOnly) {
  auto keys = [](OpenContext& context) { context.keys.add({"secret", "a test"}); };
  EXPECT_TRUE(has(Described("fact leak = text(key(\"any\"))" + kEntry, Bytes(100), keys).error(),
                  "does not say how a key that fits is told"));
  EXPECT_TRUE(
      has(Described("fact leak = text(key(\"any\", k where true))" + kEntry, Bytes(100), keys).error(),
          "a key, which only ciphers take"));
  EXPECT_TRUE(has(Described("a = zeros(16) | xor(key(\"any\", k where true))\nfact leak = text(a)" + kEntry,
                            Bytes(100), keys)
                      .error(),
                  "a key, which only ciphers take"))
      << "a key laid over zeros would be the key";
  EXPECT_EQ(
      Described("a = zeros(4) | rc4(key(\"any\", k where length(k) == 6))\nfact size = length(a)" + kEntry,
                Bytes(100), keys)
          .facts(),
      "size=4");
}

TEST(HostileDescription, AStrangersDescriptionIsGivenNoKeyUnasked) {
  std::string text =
      "layout \"Test\"\na = zeros(4) | rc4(key(\"any\", k where true))\nfact size = length(a)" + kEntry;
  layout::Compiled compiled = layout::compile({"test.layout", text}, {}, true);
  ASSERT_NE(compiled.plan, nullptr);
  SourcePtr source = make_memory_source(Bytes(100));
  OpenContext context;
  context.keys.add({"secret", "a test"});
  auto open = [&] {
    layout::open_described(compiled.plan, {make_content(source), "x"}, source, context)->entries();
  };
  try {
    open();
    FAIL() << "it was given a key";
  } catch (const NeedsKey& error) {
    EXPECT_TRUE(has(error.what(), "asks for the key \"any\"")) << error.what();
  }
  context.may_have_key = [](const std::string&, const std::string& key) { return key == "any"; };
  EXPECT_NO_THROW(open());
}

}  // namespace
}  // namespace operculum::test
