#include "task/walk.h"

#include <gtest/gtest.h>

#include "base/ordered_work.h"
#include "codec/codec.h"
#include "support/open.h"
#include "support/refusal.h"
#include "support/tar_builder.h"
#include "support/zip_builder.h"
#include "task/output_names.h"

namespace operculum {
namespace {

using namespace test;

std::string walked(const Held& held, const SourcePtr& file, bool deep) {
  std::string paths;
  WalkEvents events;
  events.found = [&](const Found& found) {
    paths += (paths.empty() ? "" : " ") + found.path;
    if (found.entry.has_data() && found.path.ends_with(".txt")) {
      paths += "=" + std::string(as_text(found.stream != nullptr ? read_all(*found.stream, 1000)
                                                                 : read_all(*found.content->stream(), 1000)));
    }
    return true;
  };
  Layer layer{held.opened.format, held.opened.container, "sample"};
  walk(layer, file, *held.context, {deep}, events);
  return paths;
}

TEST(Walk, GoesIntoContainersOnlyWhenDeep) {
  Bytes inner = ZipBuilder().add("crab.txt", "pinch").build();
  Bytes middle =
      encode("xz", TarBuilder().add({.name = "inner.zip", .data = inner}).file("b.txt", "beta").build());
  for (As as : {As::file, As::stream}) {
    Held held = open_bytes(TarBuilder()
                               .file("a.txt", "alpha")
                               .add({.name = "middle.tar.xz", .data = middle})
                               .file("z.txt", "omega")
                               .build(),
                           "s.tar", as);
    EXPECT_EQ(walked(held, nullptr, false), "a.txt=alpha middle.tar.xz z.txt=omega");
    // A layer that holds a single stream adds its own name: middle.tar.xz holds middle.tar.
    EXPECT_EQ(walked(held, nullptr, true),
              "a.txt=alpha middle.tar.xz/middle.tar/inner.zip/crab.txt=pinch "
              "middle.tar.xz/middle.tar/b.txt=beta z.txt=omega");
  }
}

/// Claims to hold one entry: bytes of the test's choice.
class Mirror final : public Container {
 public:
  explicit Mirror(SourcePtr inside) : inside_(std::move(inside)) { entry_[0].path = "self"; }
  std::span<const Entry> entries() override { return entry_; }
  ContentPtr content(std::size_t) override { return make_content(inside_); }

 private:
  SourcePtr inside_;
  Entry entry_[1];
};

TEST(Walk, NoticesAContainerThatContainsItself) {
  SourcePtr zip = make_memory_source(ZipBuilder().add("a", "alpha").build());
  SourcePtr twin = make_memory_source(ZipBuilder().add("b", "alpha").build());
  OpenContext context;
  auto run = [&](const SourcePtr& inside) {
    walk({&formats()[0], std::make_shared<Mirror>(inside), "sample"}, zip, context, {true},
         {.found = [](const Found&) { return true; }});
  };
  EXPECT_REFUSAL(run(zip), LimitExceeded,
                 "a container that contains itself: unpacking it with --deep would never end");
  EXPECT_NO_THROW(run(twin)) << "of the same size, but another";
}

TEST(OrderedWork, ReportsInOrderWhateverFinishesFirst) {
  std::vector<int> order;
  {
    OrderedWork work(4);
    for (int i = 0; i < 200; ++i) {
      work.submit([i, &order]() -> OrderedWork::Report {
        volatile unsigned waste = 0;
        for (unsigned turn = 0; turn < (200u - static_cast<unsigned>(i)) * 500; ++turn) waste = waste + turn;
        return [i, &order] { order.push_back(i); };
      });
    }
    work.finish();
  }
  ASSERT_EQ(order.size(), 200u);
  EXPECT_TRUE(std::is_sorted(order.begin(), order.end()));
}

TEST(OrderedWork, StopsAtTheFirstException) {
  OrderedWork work(2);
  work.submit([]() -> OrderedWork::Report { throw LimitExceeded("enough"); });
  EXPECT_REFUSAL(work.finish(), LimitExceeded, "enough");
}

TEST(OrderedWork, SmallPiecesAmongOthersAreReportedInOrder) {
  std::vector<int> order;
  OrderedWork work(3);
  for (int i = 0; i < 1'000; ++i) {
    auto piece = [i, &order]() -> OrderedWork::Report { return [i, &order] { order.push_back(i); }; };
    if (i % 97 == 5) {
      work.submit(piece, i % 2 == 0 ? 7 : 0);
    } else if (i % 89 == 3) {
      work.report([i, &order] { order.push_back(i); });
    } else {
      work.submit_small(piece);
    }
  }
  work.finish();
  ASSERT_EQ(order.size(), 1'000u);
  EXPECT_TRUE(std::is_sorted(order.begin(), order.end()));
}

/// What comes in front of the piece that throws is reported, nothing behind it is.
TEST(OrderedWork, ASmallPieceThatThrowsEndsTheRun) {
  std::vector<int> order;
  OrderedWork work(2);
  for (int i = 0; i < 20; ++i) {
    work.submit_small([i, &order]() -> OrderedWork::Report {
      if (i == 12) throw LimitExceeded("enough");
      return [i, &order] { order.push_back(i); };
    });
  }
  EXPECT_REFUSAL(work.finish(), LimitExceeded, "enough");
  EXPECT_EQ(order.size(), 12u);
}

TEST(OutputNames, GivesEachEntryAPathOfItsOwn) {
  OutputNames names(NameRules::here);
  using Duplicates = OutputNames::Duplicates;
  EXPECT_EQ(names.file("a/b", Duplicates::numbered).path, "a/b");
  EXPECT_EQ(names.file("a/b", Duplicates::numbered).path, "a/b~2");
  EXPECT_EQ(names.file("a/b", Duplicates::numbered).path, "a/b~3");
  EXPECT_TRUE(names.file("a/b", Duplicates::replace).replaces);
  EXPECT_EQ(names.file("a", Duplicates::numbered).path, "a~2") << "a folder has that name";
  EXPECT_EQ(names.file("x", Duplicates::numbered).path, "x");
  EXPECT_EQ(names.file("x/y/z", Duplicates::numbered).path, "x~2/y/z");
  EXPECT_EQ(names.file("x/y/w", Duplicates::numbered).path, "x~2/y/w") << "the same folder again";
  EXPECT_EQ(names.folder("x/y").path, "x~2/y");
  EXPECT_EQ(names.given_to("x"), "x");
  EXPECT_EQ(names.given_to("nothing"), "");
}

}  // namespace
}  // namespace operculum
