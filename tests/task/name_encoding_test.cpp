#include "task/name_encoding.h"

#include <gtest/gtest.h>

namespace operculum {
namespace {

TEST(NameEncoding, SaysWhatAnEncodingWouldGive) {
  NameEncoding names;
  names.look("plain.txt");
  names.look("caf\xc3\xa9.txt");
  EXPECT_EQ(names.hint(), "") << "all of it is UTF-8";
  names.look("\x8a\x4c.txt");  // a shell, in CP932
  EXPECT_EQ(names.hint(), "1 name is no UTF-8; --names-in CP932 would give \"\u8c9d.txt\"");
}

TEST(NameEncoding, NamesLongerThanAnySampleAreCounted) {
  NameEncoding names;
  names.look(std::string(5000, '\xe9'));
  EXPECT_EQ(names.hint(), "1 name is no UTF-8; --names-in ENCODING says what else");
  names.look("\x8a\x4c.txt");
  EXPECT_EQ(names.hint(), "2 names are no UTF-8; --names-in CP932 would give \"\u8c9d.txt\"");
}

}  // namespace
}  // namespace operculum
