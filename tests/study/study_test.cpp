// Packs in formats drawn by lot are opened by the drafts that a study makes of them; what is no pack gets
// none.
#include "study/study.h"

#include <gtest/gtest.h>

#include "layout/compile.h"
#include "layout/described_container.h"
#include "study/profile.h"
#include "support/chart_store.h"
#include "support/random_pack.h"

namespace operculum::study {
namespace {

using namespace test;

Findings study_bytes(const Bytes& bytes, OpenContext& context) {
  return study({{make_memory_source(bytes), "store.hob"}, 16}, context);
}

/// Path and bytes of all that a draft finds.
std::vector<RandomPack::File> opened(const std::string& draft, const Bytes& bytes) {
  OpenContext context;
  layout::Compiled compiled = layout::compile({"draft.layout", draft}, {}, true);
  if (!compiled.plan) throw std::runtime_error(compiled.problems.front().text + "\n" + draft);
  SourcePtr source = make_memory_source(bytes);
  auto container =
      layout::open_described(compiled.plan, {make_content(source), "store.hob"}, source, context);
  std::vector<RandomPack::File> files;
  std::size_t count = container->entries().size();
  for (std::size_t i = 0; i < count; ++i)
    files.push_back({container->entries()[i].path, read_all(*container->content(i)->stream(), 1 << 24)});
  return files;
}

struct Drawn : testing::TestWithParam<std::uint64_t> {};

TEST_P(Drawn, IsOpenedByItsDraft) {
  RandomPack pack = random_pack(GetParam());
  SCOPED_TRACE(pack.features);
  OpenContext context;
  Findings findings = study_bytes(pack.bytes, context);
  ASSERT_TRUE(findings.solved());
  auto files = opened(findings.drafts.front().text, pack.bytes);
  ASSERT_EQ(files.size(), pack.files.size()) << findings.drafts.front().text;
  for (std::size_t i = 0; i < files.size(); ++i) {
    EXPECT_EQ(files[i].data, pack.files[i].data) << i;
    if (!pack.files[i].path.empty()) {
      EXPECT_EQ(files[i].path, pack.files[i].path);
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Lots, Drawn, testing::Values(3, 9, 40, 50));

struct Nothing : testing::TestWithParam<std::uint64_t> {};

TEST_P(Nothing, GetsNoDraft) {
  OpenContext context;
  Findings findings = study_bytes(random_nothing(GetParam()), context);
  EXPECT_FALSE(findings.solved()) << findings.drafts.front().text;
}

INSTANTIATE_TEST_SUITE_P(Kinds, Nothing, testing::Range<std::uint64_t>(0, 6));

TEST(Study, DraftsTheChartStoreInNamesThatTellWhatTheyAre) {
  ChartStore store = chart_store(24);
  OpenContext context;
  Findings findings = study_bytes(store.bytes, context);
  ASSERT_TRUE(findings.solved());
  const Drafted& best = findings.drafts.front();
  for (std::string_view line :
       {"magic bytes \"HOBCHART\"", "count u32", "index u32", "name text[24] padded 0", "at u32",
        "stored u32", "size u32", "when item.stored < item.size: zlib"})
    EXPECT_NE(best.text.find(line), std::string::npos) << line << "\n" << best.text;
  std::map<std::string, Bytes> found;
  for (RandomPack::File& file : opened(best.text, store.bytes)) found[file.path] = std::move(file.data);
  EXPECT_EQ(found, store.files);
  EXPECT_EQ(best.trial.failed, 0u);
  EXPECT_LE(std::count(best.text.begin(), best.text.end(), '\n'), 45);
}

TEST(Study, IsTheSameFromRunToRun) {
  ChartStore store = chart_store(31);
  OpenContext context;
  Findings first = study_bytes(store.bytes, context), second = study_bytes(store.bytes, context);
  ASSERT_EQ(first.drafts.size(), second.drafts.size());
  for (std::size_t i = 0; i < first.drafts.size(); ++i)
    EXPECT_EQ(first.drafts[i].text, second.drafts[i].text);
}

TEST(Study, SurvivesEveryCutOfAPack) {
  ChartStore store = chart_store(24);
  OpenContext context;
  for (std::size_t size = 0; size < store.bytes.size(); size += store.bytes.size() / 7) {
    Bytes cut(store.bytes.begin(), store.bytes.begin() + static_cast<std::ptrdiff_t>(size));
    EXPECT_FALSE(study_bytes(cut, context).solved() && size < 64) << size;
  }
}

TEST(Profile, TellsFillingTextTablesAndNoiseApart) {
  Bytes bytes(4096);
  for (std::size_t i = 0; i < 4096; ++i)
    bytes.push_back(static_cast<Byte>("soundings at the mole\n"[i % 22]));
  for (std::size_t i = 0; i < 4096; ++i) bytes.push_back(static_cast<Byte>(i % 4 == 0 ? i / 4 : 0));
  Bytes noise;
  for (std::uint64_t number = 0; noise.size() < 4096; number += 6) {
    Bytes more = random_nothing(number);
    noise.insert(noise.end(), more.begin(), more.end());
  }
  noise.resize(4096);
  bytes.insert(bytes.end(), noise.begin(), noise.end());
  Profile profile = profile_of(*make_memory_source(bytes));
  ASSERT_EQ(profile.ranges.size(), 4u);
  std::vector<Look> looks;
  for (const LookRange& range : profile.ranges) looks.push_back(range.look);
  EXPECT_EQ(looks, (std::vector<Look>{Look::filling, Look::text, Look::structured, Look::dense}));
  EXPECT_EQ(profile.ranges[2].begin, 8192u);
  EXPECT_EQ(profile.bytes, (std::array<std::uint64_t, 4>{4096, 4096, 4096, 4096}));
}

}  // namespace
}  // namespace operculum::study
