// Packs in formats that were drawn by lot, described by their drafts, and written with changes.
#include <gtest/gtest.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "container/rewrite.h"
#include "layout/compile.h"
#include "layout/described_container.h"
#include "study/study.h"
#include "support/byte_writer.h"
#include "support/random_pack.h"

namespace operculum::study {
namespace {

using namespace test;

using Files = std::vector<std::pair<std::string, Bytes>>;

/// A pack with the draft that describes it.
class DraftedPack {
 public:
  explicit DraftedPack(std::uint64_t number) : pack_(random_pack(number)) {
    OpenContext context;
    Findings findings = study({{make_memory_source(pack_.bytes), "store.hob"}, 16}, context);
    if (!findings.solved()) return;
    plan_ = layout::compile({"draft.layout", findings.drafts.front().text}, {}, true).plan;
  }

  bool solved() const { return plan_ != nullptr; }
  const RandomPack& pack() const { return pack_; }

  Files files(const Bytes& bytes) const {
    OpenContext context;
    ContainerPtr container = open(bytes, context);
    Files out;
    for (std::size_t i = 0; i < container->entries().size(); ++i)
      out.emplace_back(container->entries()[i].path, read_all(*container->content(i)->stream(), 1 << 24));
    return out;
  }

  /// The pack with changes, or nothing when that is refused.
  std::optional<Bytes> changed(const Changes& changes) const {
    OpenContext context;
    ContainerPtr container = open(pack_.bytes, context);
    Writing writing{{}, context.spool, [](const std::string&, const std::string&) {}};
    try {
      SourcePtr source = container->rewrite(changes, writing).source();
      return read_up_to(*source, 0, source->size());
    } catch (const Unsupported&) {
      return std::nullopt;
    }
  }

 private:
  ContainerPtr open(const Bytes& bytes, OpenContext& context) const {
    SourcePtr source = make_memory_source(bytes);
    return layout::open_described(plan_, {make_content(source), "store.hob"}, source, context);
  }

  RandomPack pack_;
  std::shared_ptr<const layout::Plan> plan_;
};

NewEntry file_of(const std::string& path, const Bytes& bytes) {
  NewEntry entry;
  entry.path = path;
  entry.size = bytes.size();
  entry.content = make_content(make_memory_source(bytes));
  return entry;
}

/// How many of five changes were made to an entry in the middle; what is refused does not count, what is made
/// wrong fails.
std::size_t changes_made(const DraftedPack& drafted) {
  Files before = drafted.files(drafted.pack().bytes);
  std::size_t middle = before.size() / 2, made = 0;
  const auto& [path, data] = before[middle];
  std::string name =
      path.substr(0, path.size() - base_name(path).size()) + "eel" + path.substr(path.rfind('.'));
  Bytes more = data, less(data.begin(), data.begin() + static_cast<std::ptrdiff_t>(data.size() / 2));
  for (int i = 0; i < 60; ++i) more.insert(more.end(), {'t', 'i', 'd', static_cast<Byte>('a' + i % 26)});
  auto check = [&](const std::string& what, const Changes& changes, Files expected) {
    auto result = drafted.changed(changes);
    if (!result) return;
    ++made;
    Files after = drafted.files(*result);
    std::sort(after.begin(), after.end());
    std::sort(expected.begin(), expected.end());
    EXPECT_TRUE(after == expected) << what;
  };
  auto with = [&](const std::string& as, const Bytes& content) {
    Files out = before;
    out[middle] = {as, content};
    return out;
  };
  Changes longer, shorter, removed, renamed, added;
  longer.replaced.emplace(middle, file_of(path, more));
  check("longer", longer, with(path, more));
  shorter.replaced.emplace(middle, file_of(path, less));
  check("shorter", shorter, with(path, less));
  renamed.renamed.emplace(middle, name);
  check("renamed", renamed, with(name, data));
  Files without = before, grown = before;
  without.erase(without.begin() + static_cast<std::ptrdiff_t>(middle));
  removed.removed.insert(middle);
  check("removed", removed, without);
  grown.emplace_back(name, more);
  added.added.push_back(file_of(name, more));
  check("added", added, grown);
  return made;
}

struct Lot {
  std::uint64_t number;
  std::size_t made;  ///< of the five changes
};
struct DraftedRewrite : testing::TestWithParam<Lot> {};

TEST_P(DraftedRewrite, MakesEveryChangeRightOrRefusesIt) {
  DraftedPack drafted(GetParam().number);
  ASSERT_TRUE(drafted.solved());
  EXPECT_EQ(changes_made(drafted), GetParam().made) << drafted.pack().features;
}

// Names behind their length and LZ4; names up to a zero; names in fields, sums and LZSS.
INSTANTIATE_TEST_SUITE_P(Lots, DraftedRewrite, testing::Values(Lot{0, 5}, Lot{7, 5}, Lot{14, 5}),
                         [](const auto& one) { return "Number" + std::to_string(one.param.number); });

}  // namespace
}  // namespace operculum::study
