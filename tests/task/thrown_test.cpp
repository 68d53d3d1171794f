// Whatever is thrown at an entry ends as that entry's error, and costs no other.
#include <gtest/gtest.h>

#include <new>

#include "support/byte_writer.h"
#include "support/temp_folder.h"
#include "task/unpack.h"
#include "task/verify.h"

namespace operculum {
namespace {

using test::to_bytes;

/// Entries of which each but the last throws something else, when it is opened or when it is read.
class Throwing final : public Container {
 public:
  explicit Throwing(bool when_read) : when_read_(when_read) {
    for (const char* name : {"length", "memory", "range", "good"}) {
      entries_.emplace_back();
      entries_.back().path = name;
      entries_.back().size = 4;
    }
  }
  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    if (index == 3) return make_content(make_memory_source(to_bytes("tide")));
    if (!when_read_) fail(index);
    return make_content([index]() -> StreamPtr {
      struct Failing final : Stream {
        std::size_t read(ByteSpan) override {
          fail(which);
          return 0;
        }
        std::size_t which = 0;
      };
      auto stream = std::make_unique<Failing>();
      stream->which = index;
      return stream;
    });
  }

 private:
  static void fail(std::size_t which) {
    if (which == 0) throw std::length_error("vector::_M_default_append");
    if (which == 1) throw std::bad_alloc();
    throw std::out_of_range("map::at");
  }
  bool when_read_;
  std::vector<Entry> entries_;
};

struct Thrown : testing::TestWithParam<bool> {
  Format format = {.id = "throwing", .name = "throwing container"};
  OpenContext context;
  Progress progress;
  Place place() {
    Place made;
    made.file = "throwing";
    made.file_source = make_memory_source({});
    made.layers.push_back({&format, std::make_shared<Throwing>(GetParam()), "throwing"});
    return made;
  }
};

TEST_P(Thrown, VerifyGoesOn) {
  std::vector<std::string> faults;
  VerifyTotals totals = verify(place(), {}, context, progress, [&](const Fault& fault) {
    faults.push_back(fault.path + ": " + fault.message);
  });
  EXPECT_EQ(totals.entries, 1u);
  EXPECT_EQ(totals.failed, 3u);
  ASSERT_EQ(faults.size(), 3u);
  EXPECT_EQ(faults[0], "length: a size in it is larger than anything can be; it is damaged");
  EXPECT_EQ(faults[1], "memory: there is not enough memory to decode it");
  EXPECT_EQ(faults[2], "range: it cannot be understood; it is damaged (map::at)");
}

TEST_P(Thrown, UnpackGoesOn) {
  test::TempFolder folder;
  UnpackRequest request;
  request.into = folder.path("out");
  UnpackTotals totals = unpack(place(), request, context, progress, [](const UnpackEvent&) {});
  EXPECT_EQ(totals.files, 1u);
  EXPECT_EQ(totals.failed, 3u);
  EXPECT_EQ(folder.listing("out"), "good");
}

INSTANTIATE_TEST_SUITE_P(Entries, Thrown, testing::Bool());

}  // namespace
}  // namespace operculum
