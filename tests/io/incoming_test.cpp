// Bytes that come in once.
#include "io/incoming.h"

#include <gtest/gtest.h>

#include "support/sample_tree.h"
#include "support/sentence.h"

namespace operculum::test {
namespace {

ContentPtr incoming(const Bytes& bytes, std::uint64_t* came = nullptr) {
  return make_incoming(make_source_stream(make_memory_source(bytes)), "standard input",
                       [came](std::uint64_t count) {
                         if (came != nullptr) *came += count;
                       });
}

TEST(Incoming, IsReadAgainWhileOnlyItsFrontWasRead) {
  Bytes all = noise(kLookAgain, 1);
  std::uint64_t came = 0;
  ContentPtr content = incoming(all, &came);
  Bytes front(1000);
  StreamPtr first = content->stream();
  ASSERT_EQ(read_fully(*first, front), front.size());
  EXPECT_EQ(read_all(*content->stream(), all.size()), all);
  EXPECT_EQ(came, all.size());
  // The first goes on where it was.
  EXPECT_EQ(read_all(*first, all.size()), Bytes(all.begin() + 1000, all.end()));
}

TEST(Incoming, IsReadOnceWhereItIsLong) {
  Bytes all = noise(kLookAgain + 100'000, 2);
  ContentPtr content = incoming(all);
  StreamPtr behind = content->stream();
  Bytes front(1000);
  read_fully(*behind, front);
  EXPECT_EQ(read_all(*content->stream(), all.size()), all);
  std::string words =
      "standard input can be read once only, and this needs it twice; save it to a file and name that";
  EXPECT_EQ(sentence([&] { content->stream(); }), words);
  EXPECT_EQ(sentence([&] { behind->read(front); }), words);
}

}  // namespace
}  // namespace operculum::test
