// Each call by which files are read and written is made to fail in turn, and each allocation of memory:
// whatever a task was doing, it ends in an error or is complete, leaves no half file and no hidden one, and
// does not touch what it reads.
#include <gtest/gtest.h>

#include <cerrno>
#include <functional>
#include <map>

#include "base/text.h"
#include "codec/codec.h"
#include "collection/compare.h"
#include "collection/find.h"
#include "support/failing_memory.h"
#include "support/faults.h"
#include "support/tar_builder.h"
#include "support/temp_folder.h"
#include "support/zip_builder.h"
#include "task/convert.h"
#include "task/discard.h"
#include "task/identify.h"
#include "task/pack.h"
#include "task/places.h"
#include "task/rebuild.h"
#include "task/unpack.h"
#include "task/verify.h"

namespace operculum {
namespace {

using namespace test;
using kernel::Call;

/// A task on the files of a folder; returns how many things it told that it could not do.
using Work = std::function<std::uint64_t(const TempFolder&)>;

struct Sort {
  Call call;
  std::vector<int> errors;
};
const Sort kSorts[] = {{Call::open, {EMFILE, EACCES}},
                       {Call::unnamed, {EOPNOTSUPP, ENOSPC}},
                       {Call::make, {ENOSPC, EROFS}},
                       {Call::name, {ENOSPC, EIO}},
                       {Call::read, {EIO}},
                       {Call::write, {ENOSPC, EDQUOT, EIO}}};

/// What is in the desk's folders before and, of files, after a task that was complete.
struct Expectation {
  std::map<std::string, std::string> before;  ///< path and content: never changed
  std::map<std::string, std::string> after;   ///< made by the task: each is as here, or not there at all
};

class FaultSweep {
 public:
  FaultSweep(Work work, Expectation expected) : work_(std::move(work)), expected_(std::move(expected)) {}

  void every_call() {
    for (const Sort& sort : kSorts) {
      for (int error : sort.errors) {
        for (std::uint64_t nth = 1;; ++nth) {
          ASSERT_LT(nth, 3000u);
          bool reached = false;
          SCOPED_TRACE(::testing::Message()
                       << "sort " << static_cast<int>(sort.call) << ", call " << nth << ", error " << error);
          run([&](const TempFolder& temp) {
            CallFault fault(sort.call, nth, error);
            bool well = attempt(temp);
            reached = fault.reached();
            return well;
          });
          if (!reached) break;
        }
      }
    }
  }

  void every_allocation() {
    bool reached = true;
    for (std::int64_t nth = 1; reached; nth += 1 + nth / 8) {
      run([&](const TempFolder& temp) {
        FailingMemory memory(nth);
        bool well = attempt(temp);
        reached = memory.reached();
        return well;
      });
    }
  }

 private:
  /// Whether the task did all that it was to do.
  bool attempt(const TempFolder& temp) const {
    try {
      return work_(temp) == 0;
    } catch (const Error&) {
      return false;
    } catch (const std::bad_alloc&) {
      return false;  // where nobody is between the task and whoever asked for it
    }
  }

  void run(const std::function<bool(const TempFolder&)>& broken) const {
    TempFolder temp;
    for (const auto& [path, content] : expected_.before) temp.write(path, content);
    bool complete = broken(temp);
    check(temp, complete);
    // With nothing failing any more the same is done to its end, whatever was left.
    if (!complete && attempt(temp)) check(temp, true);
  }

  void check(const TempFolder& temp, bool complete) const {
    for (const auto& [path, content] : expected_.before) {
      if (expected_.after.contains(path)) continue;
      EXPECT_EQ(temp.read(path), content) << path;
    }
    for (const auto& [path, content] : expected_.after) {
      if (complete || temp.has(path)) {
        ASSERT_TRUE(temp.has(path)) << path << " is missing though nothing was told: " << temp.listing();
        std::string now = temp.read(path);
        auto old = expected_.before.find(path);
        bool as_before = !complete && old != expected_.before.end() && now == old->second;
        EXPECT_TRUE(as_before || now == content) << path << " has " << now.size() << " bytes";
      } else {
        EXPECT_FALSE(expected_.before.contains(path)) << path << " is gone";
      }
    }
    EXPECT_EQ(temp.listing().find(".part"), std::string::npos) << temp.listing();
  }

  Work work_;
  Expectation expected_;
};

std::string bytes_text(const Bytes& bytes) {
  return std::string(as_text(bytes));
}

/// Small files, one that is packed in several pieces, and a container in it.
std::string sample_zip() {
  std::string long_text;
  for (int i = 0; i < 20'000; ++i) long_text += "low water at " + std::to_string(i * 373 % 1440) + "\n";
  Bytes inner = TarBuilder().file("deep/crab.txt", "pinch").build();
  return bytes_text(ZipBuilder()
                        .add("a.txt", "alpha")
                        .add({.name = "long.txt", .data = to_bytes(long_text)})
                        .add({.name = "inner.tar", .data = inner})
                        .build());
}

std::map<std::string, std::string> contents_of(const TempFolder& temp, const std::string& folder) {
  std::map<std::string, std::string> files;
  std::string listing = temp.listing(folder);
  for (std::string_view path : split(listing, ' ')) {
    if (path.empty() || path.ends_with('/')) continue;
    std::string name = folder + "/" + std::string(path);
    files[name] = temp.read(name);
  }
  return files;
}

std::uint64_t unpack_all(const TempFolder& temp, const std::string& file, bool spool_to_disk) {
  OpenContext context;
  if (spool_to_disk) context.spool.take_memory(64 << 20);
  Progress progress;
  Place place = resolve(temp.path(file), context, Step::into);
  UnpackRequest request;
  request.into = temp.path("out");
  request.deep = true;
  UnpackTotals totals = unpack(place, request, context, progress, [](const UnpackEvent&) {});
  return totals.failed + totals.left_out + totals.faults + (totals.stopped ? 1 : 0);
}

/// Runs the task once with nothing failing, to see what comes of it.
Expectation expectation(std::map<std::string, std::string> before, const Work& work,
                        const std::string& result) {
  TempFolder temp;
  for (const auto& [path, content] : before) temp.write(path, content);
  EXPECT_EQ(work(temp), 0u);
  Expectation expected{before, {}};
  if (std::filesystem::is_directory(temp.path(result))) {
    expected.after = contents_of(temp, result);
  } else {
    expected.after[result] = temp.read(result);
  }
  EXPECT_FALSE(expected.after.empty());
  return expected;
}

void sweep(const Work& work, const std::map<std::string, std::string>& before, const std::string& result) {
  Expectation expected = expectation(before, work, result);
  FaultSweep(work, expected).every_call();
}

TEST(Faults, Unpack) {
  Work work = [](const TempFolder& temp) { return unpack_all(temp, "a.zip", false); };
  sweep(work, {{"a.zip", sample_zip()}}, "out");
}

TEST(Faults, UnpackOfASolidArchiveOverTheSpool) {
  Bytes zip = to_bytes(sample_zip());
  std::string solid = bytes_text(encode("xz", TarBuilder().add({.name = "a.zip", .data = zip}).build()));
  Work work = [](const TempFolder& temp) { return unpack_all(temp, "a.tar.xz", true); };
  sweep(work, {{"a.tar.xz", solid}}, "out");
}

std::uint64_t rebuild_one(const TempFolder& temp, const std::string& into) {
  OpenContext context;
  Progress progress;
  RebuildRequest request;
  request.target = temp.path("a.zip");
  request.wishes.push_back({Wish::Kind::set, "a.txt", temp.path("new.txt")});
  if (!into.empty()) request.into = temp.path(into);
  RebuildResult result = rebuild(request, context, progress);
  return result.fates.size() == 1 ? 0 : 1;
}

TEST(Faults, RebuildIntoANewFile) {
  Work work = [](const TempFolder& temp) { return rebuild_one(temp, "b.zip"); };
  sweep(work, {{"a.zip", sample_zip()}, {"new.txt", "new"}}, "b.zip");
}

TEST(Faults, RebuildInPlaceNeverCostsTheOriginal) {
  Work work = [](const TempFolder& temp) {
    bool done = temp.has("a.zip.before");  // an earlier run came that far
    return done ? 0 : rebuild_one(temp, "");
  };
  sweep(work, {{"a.zip", sample_zip()}, {"new.txt", "new"}}, "a.zip");
}

TEST(Faults, Pack) {
  Work work = [](const TempFolder& temp) {
    OpenContext context;
    Progress progress;
    PackRequest request;
    request.folder = temp.path("loose");
    request.as = "zip";
    request.into = temp.path("new.zip");
    return pack(request, context, progress).fates.empty() ? 1u : 0u;
  };
  // Times of files are packed, too: what comes out is only as long as expected.
  Expectation expected = expectation({{"loose/a.txt", "alpha"}, {"loose/d/b.txt", "beta"}}, work, "new.zip");
  expected.after.clear();
  FaultSweep(work, expected).every_call();
}

TEST(Faults, Convert) {
  Work work = [](const TempFolder& temp) {
    OpenContext context;
    Progress progress;
    ConvertRequest request;
    request.target = temp.path("a.zip");
    request.as = "tar";
    request.into = temp.path("a.tar");
    convert(request, context, progress, [](const Losses&) { return true; });
    return 0u;
  };
  sweep(work, {{"a.zip", sample_zip()}}, "a.tar");
}

TEST(Faults, ReceiptAndDiscard) {
  Work work = [](const TempFolder& temp) -> std::uint64_t {
    OpenContext context;
    Progress progress;
    Place place = resolve(temp.path("a.zip"), context, Step::into);
    UnpackRequest request;
    request.into = temp.path("out");
    request.digests = true;
    Receipt receipt;
    receipt.source = "a.zip";
    receipt.folder = request.into;
    UnpackTotals totals =
        unpack(place, request, context, progress, [&](const UnpackEvent& event) { receipt.add(event); });
    if (totals.failed > 0) return totals.failed;
    receipt.write(temp.path("receipt.json"));
    DiscardTotals taken =
        discard(Receipt::read(temp.path("receipt.json")), false, [](const DiscardEvent&) {});
    return taken.failed;
  };
  FaultSweep(work, {{{"a.zip", sample_zip()}}, {}}).every_call();
}

std::uint64_t look_at(const TempFolder& temp) {
  OpenContext context;
  Progress progress;
  std::uint64_t failed = 0;
  identify(temp.path("a.zip"), {}, context);
  Place place = resolve(temp.path("a.zip"), context, Step::into);
  failed += verify(place, {}, context, progress, [](const Fault&) {}).failed;
  Place other = resolve_with_folders(temp.path("loose"), context);
  failed += compare(place, other, {}, context, progress, [](const Difference&) {}).unreadable;
  FindRequest wanted;
  wanted.needles.add_text("pinch", Glob::Case::exact);
  failed += find({temp.path("a.zip")}, wanted, context, progress,
                 {[](const FoundFile&) {}, [](const auto&, const auto&) {}})
                .unreadable;
  return failed;
}

TEST(Faults, LookingOnly) {
  FaultSweep(look_at, {{{"a.zip", sample_zip()}, {"loose/a.txt", "alpha"}}, {}}).every_call();
}

TEST(Faults, MemoryThatIsNotThere) {
  FaultSweep(look_at, {{{"a.zip", sample_zip()}, {"loose/a.txt", "alpha"}}, {}}).every_allocation();
  Work unpacked = [](const TempFolder& temp) { return unpack_all(temp, "a.zip", false); };
  FaultSweep(unpacked, expectation({{"a.zip", sample_zip()}}, unpacked, "out")).every_allocation();
  Work rebuilt = [](const TempFolder& temp) { return rebuild_one(temp, "b.zip"); };
  FaultSweep(rebuilt, expectation({{"a.zip", sample_zip()}, {"new.txt", "new"}}, rebuilt, "b.zip"))
      .every_allocation();
}

}  // namespace
}  // namespace operculum
