#include "study/study.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <array>

#include "study/chain_search.h"
#include "study/disguise.h"
#include "study/draft.h"
#include "study/packing.h"
#include "study/record_search.h"
#include "study/table_search.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kWhole = 32 << 20, kPiece = 8 << 20;
constexpr std::uint64_t kMostRead = 64 << 20;  // bytes of entries that are read on trial
constexpr std::size_t kTried = 8;              // drafts
constexpr double kBelieved = 60, kExplained = 0.6, kMostFailed = 0.03, kMostBits = 300;

/// Whether a draft is believed, and how well it does beside others.
void judge(Drafted& drafted) {
  const Trial& trial = drafted.trial;
  double failed = trial.read == 0 ? 1 : static_cast<double>(trial.failed) / static_cast<double>(trial.read);
  drafted.score = std::min(drafted.hypothesis.bits, kMostBits) + 150 * trial.explained - 200 * failed - (trial.failure.empty() ? 0 : 200);
  if (!trial.failure.empty()) {
    drafted.dropped = "it cannot be opened: " + trial.failure;
  } else if (failed > kMostFailed) {
    drafted.dropped = fmt::format("{} of {} entries cannot be read", trial.failed, trial.read);
  } else if (trial.explained < kExplained) {
    drafted.dropped = fmt::format("{:.0f} % of the file stay unexplained", 100 * (1 - trial.explained));
  } else if (drafted.score < kBelieved + 150 * kExplained) {
    drafted.dropped = fmt::format("chance explains it as well ({:.0f} bits of evidence)", drafted.hypothesis.bits);
  }
}

std::vector<SpacePtr> plain_spaces(const Subject& subject) {
  std::vector<SpacePtr> spaces;
  auto add = [&](std::uint64_t at, std::uint64_t size) {
    auto space = std::make_shared<Space>();
    space->bytes = subject.read(at, size);
    space->at = at;
    space->data_size = subject.size();
    spaces.push_back(std::move(space));
  };
  if (subject.size() <= kWhole) {
    add(0, subject.size());
  } else {
    add(0, kPiece);
    add(subject.size() - kPiece, kPiece);
  }
  return spaces;
}

}  // namespace

Findings study(const Subject& subject, std::size_t same, OpenContext& context) {
  std::vector<Hypothesis> all;
  std::vector<SpacePtr> spaces = plain_spaces(subject);
  for (SpacePtr& space : disguised_spaces(subject)) spaces.push_back(std::move(space));
  using Search = std::vector<Hypothesis> (*)(const SpacePtr&, const Subject&);
  constexpr std::array<Search, 3> kSearches = {search_tables, search_records, search_chains};
  std::vector<std::vector<Hypothesis>> found_by(spaces.size() * kSearches.size());
  tbb::parallel_for(std::size_t{0}, found_by.size(), [&](std::size_t i) {
    found_by[i] = kSearches[i % kSearches.size()](spaces[i / kSearches.size()], subject);
  });
  for (std::vector<Hypothesis>& some : found_by) {
    for (Hypothesis& found : some) all.push_back(std::move(found));
  }
  auto likelier = [](const Hypothesis& a, const Hypothesis& b) { return a.bits > b.bits; };
  for (Hypothesis& found : all) explain_gaps(found, subject);
  std::stable_sort(all.begin(), all.end(), likelier);
  if (all.size() > kTried) all.resize(kTried);
  Findings findings;
  for (Hypothesis& found : all) {
    explain_names(found, subject);
    find_packing(found, subject);
    Drafted drafted{std::move(found), {}, {}, 0, {}};
    drafted.text = draft(drafted.hypothesis, subject, same);
    drafted.trial = try_draft(drafted.text, subject, context, kMostRead);
    judge(drafted);
    findings.drafts.push_back(std::move(drafted));
  }
  std::stable_sort(findings.drafts.begin(), findings.drafts.end(), [](const Drafted& a, const Drafted& b) { return a.score > b.score; });
  return findings;
}

}  // namespace operculum::study
