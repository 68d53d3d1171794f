#include "base/text.h"

#include <gtest/gtest.h>

#include <algorithm>

#include "base/error.h"
#include "support/refusal.h"

namespace operculum {
namespace {

TEST(Escape, ShowsTerminalControlsAsText) {
  EXPECT_EQ(escape("crab\x1b[2Jpng"), "crab\\x1b[2Jpng");
  EXPECT_EQ(escape("two\nlines"), "two\\nlines");
  EXPECT_EQ(escape("a\\b"), "a\\\\b");
  EXPECT_EQ(escape("\xe2\x80\xae"
                   "gnp.exe"),
            "\\u202egnp.exe");  // a right-to-left override hides the ending
  EXPECT_EQ(escape("\xc2\x9b"
                   "2J"),
            "\\u009b2J");  // a C1 control works like ESC [
}

TEST(Escape, KeepsOtherLettersAndShowsBytesThatAreNoText) {
  EXPECT_EQ(escape("Muschelbänke/貝.txt"), "Muschelbänke/貝.txt");
  EXPECT_EQ(escape("caf\xe9"), "caf\\xe9");
}

TEST(Escape, CanBeUndone) {
  for (std::string text : {"plain", "a\\b\nc\x1b", "caf\xe9", "\xe2\x80\xae", "\\x41"}) {
    EXPECT_EQ(unescape(escape(text)), text);
  }
  EXPECT_EQ(unescape("a\\q"), std::nullopt);
  EXPECT_EQ(unescape("a\\"), std::nullopt);
  EXPECT_EQ(unescape("a\\x4"), std::nullopt);
}

TEST(Utf8, RefusesOverlongSurrogateAndCutForms) {
  EXPECT_TRUE(is_utf8("a\xc3\xa4\xe2\x82\xac\xf0\x9f\x90\x9a"));
  EXPECT_FALSE(is_utf8("\xc0\xaf"));
  EXPECT_FALSE(is_utf8("\xe0\x80\xaf"));
  EXPECT_FALSE(is_utf8("\xed\xa0\x80"));
  EXPECT_FALSE(is_utf8("\xf4\x90\x80\x80"));
  EXPECT_FALSE(is_utf8("\xe2\x82"));
}

TEST(Encodings, AreReadThroughIconv) {
  EXPECT_EQ(to_utf8("\x84\x94\x81", "CP437"), "äöü");
  EXPECT_EQ(to_utf8("\x8a\x4c.bmp", "CP932"), "貝.bmp");
  EXPECT_EQ(to_utf8(std::string_view("k\0\xfc\0", 4), "UTF-16LE"), "kü");
  EXPECT_EQ(to_utf8("\xff", "UTF-8"), std::nullopt);
  EXPECT_REFUSAL(to_utf8("x", "NO-SUCH"), Unsupported,
                 "Unsupported: text encoding \"NO-SUCH\"; `iconv -l` lists the names this machine knows");
}

TEST(Encodings, AreWrittenWhereTheyHaveTheCharacters) {
  EXPECT_EQ(from_utf8("März", "CP437"), "M\x84rz");
  EXPECT_EQ(from_utf8("潮", "CP437"), std::nullopt);
  EXPECT_REFUSAL(from_utf8("x", "NO-SUCH-CODE"), Unsupported,
                 "Unsupported: text encoding \"UTF-8\"; `iconv -l` lists the names this machine knows");
}

TEST(Numbers, RefuseWhatIsNoNumber) {
  EXPECT_EQ(parse_number("0644", 8), 0644u);
  EXPECT_EQ(parse_number(""), std::nullopt);
  EXPECT_EQ(parse_number("12x"), std::nullopt);
  EXPECT_EQ(parse_number("99999999999999999999"), std::nullopt);
}

TEST(ShellWord, QuotesWhatAShellWouldChange) {
  EXPECT_EQ(shell_word("card.img/1/kiosk"), "card.img/1/kiosk");
  EXPECT_EQ(shell_word("tide pool's.zip"), "'tide pool'\\''s.zip'");
  EXPECT_EQ(shell_word("a\\b"), "'a\\b'");
  EXPECT_EQ(shell_word("\x1b[1m\nit's\\"), "$'\\x1b[1m\\nit\\'s\\\\'");
}

TEST(DisplayWidth, CountsTerminalColumns) {
  EXPECT_EQ(display_width("crab"), 4u);
  EXPECT_EQ(display_width("bänke"), 5u);
}

TEST(Plain, IsSeenAtEveryPlaceOfEveryLength) {
  for (std::size_t length = 0; length <= 20; ++length) {
    for (std::size_t at = 0; at < std::max<std::size_t>(length, 1); ++at) {
      for (int byte = 0; byte < 256 && length > 0; ++byte) {
        std::string text(length, 'a');
        text[at] = static_cast<char>(byte);
        EXPECT_EQ(is_ascii(text), byte < 0x80) << length << " " << at << " " << byte;
        EXPECT_EQ(is_plain(text), byte >= 0x20 && byte < 0x7f && byte != '\\')
            << length << " " << at << " " << byte;
      }
    }
  }
  EXPECT_TRUE(is_plain("") && is_ascii(""));
}

TEST(Escape, ShowsWhatCannotBeSeenAndCanBeUndone) {
  for (std::string_view invisible : {"\u200b", "\u2060", "\u00ad", "\u3164", "\U000e0041"}) {
    std::string escaped = escape(invisible);
    EXPECT_TRUE(is_ascii(escaped)) << escaped;
    EXPECT_EQ(unescape(escaped), std::string(invisible));
  }
  EXPECT_EQ(escape("\u200d\u200c"), "\u200d\u200c") << "whole scripts need the joiners";
}

}  // namespace
}  // namespace operculum
