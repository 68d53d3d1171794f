#include "study/study.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <array>
#include <span>

#include "study/chain_search.h"
#include "study/chunk_search.h"
#include "study/data_key.h"
#include "study/digit_search.h"
#include "study/disguise.h"
#include "study/draft.h"
#include "study/gaps.h"
#include "study/kin.h"
#include "study/meanings.h"
#include "study/packing.h"
#include "study/record_search.h"
#include "study/table_search.h"
#include "study/text_test.h"
#include "study/unordered_search.h"
#include "study/varint_search.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kAtOnce = 32 << 20, kPiece = 8 << 20;
constexpr std::uint64_t kMostRead = 16 << 20;  // bytes of entries that are read on trial
constexpr std::size_t kTried = 8;              // drafts
constexpr double kBelieved = 60, kLeastScore = 205, kExplained = 0.6, kMostFailed = 0.03, kMostBits = 300,
                 kWhole = 0.95, kCertain = 110;
constexpr std::uint64_t kLeastFile = 64;  // bytes
constexpr double kBitsOfKin = 20;         // for each other file of the kind that a draft opens
constexpr std::size_t kMostKin = 3;       // that tell something

double share_failed(const Trial& trial) {
  return trial.read == 0 ? 1 : static_cast<double>(trial.failed) / static_cast<double>(trial.read);
}

/// Whether what a draft finds in its file speaks for it, whatever chance explains.
bool opens_well(const Trial& trial) {
  return trial.failure.empty() && share_failed(trial) <= kMostFailed && trial.explained >= kExplained;
}

/// Whether a draft is believed, and how well it does beside others.
void judge(Drafted& drafted) {
  const Trial& trial = drafted.trial;
  double failed = share_failed(trial);
  double bits = drafted.hypothesis.bits + kBitsOfKin * static_cast<double>(std::min(drafted.fits, kMostKin));
  drafted.score = std::min(bits, kMostBits) + std::max(0.0, bits - kMostBits) / 4 + 150 * trial.explained -
                  200 * failed - (trial.failure.empty() ? 0 : 200);
  if (!trial.failure.empty()) {
    drafted.dropped = "it cannot be opened: " + trial.failure;
  } else if (failed > kMostFailed) {
    drafted.dropped = fmt::format("{} of {} entries cannot be read", trial.failed, trial.read);
  } else if (trial.explained < kExplained) {
    drafted.dropped = fmt::format("{:.0f} % of the file stay unexplained", 100 * (1 - trial.explained));
  } else if (bits < kBelieved || drafted.score < kLeastScore) {
    drafted.dropped = fmt::format("chance explains it as well ({:.0f} bits of evidence)", bits);
  }
}

std::vector<SpacePtr> plain_spaces(const Subject& subject) {
  std::vector<SpacePtr> spaces;
  auto add = [&](std::uint64_t at, std::uint64_t size) {
    auto space = std::make_shared<Space>();
    space->bytes = subject.read(at, size);
    space->at = at;
    space->file_size = space->holder_size = subject.size();
    spaces.push_back(std::move(space));
  };
  if (subject.size() <= kAtOnce) {
    add(0, subject.size());
  } else {
    add(0, kPiece);
    add(subject.size() - kPiece, kPiece);
  }
  return spaces;
}

/// Of two files the larger one is that with the data.
Subject paired(const NamedFile& file, const NamedFile& other) {
  bool is_index = file.source->size() < other.source->size();
  const NamedFile& data = is_index ? other : file;
  return {data.source, data.name, is_index ? file : other, is_index};
}

SpacePtr index_space(const Subject& subject) {
  auto space = std::make_shared<Space>();
  space->bytes = read_up_to(*subject.index->source, 0, kAtOnce);
  space->plain = false;
  space->beside = true;
  space->file_size = subject.size();
  space->holder_size = subject.index->source->size();
  return space;
}

/// Whether a file is nothing but text: its numbers are words then.
bool is_all_text(const std::vector<SpacePtr>& spaces) {
  return std::all_of(spaces.begin(), spaces.end(), [](const SpacePtr& space) {
    return std::all_of(space->bytes.begin(), space->bytes.end(), is_text_byte);
  });
}

using Search = std::vector<Hypothesis> (*)(const SpacePtr&, const Subject&);

/// What the searches find in the spaces, on all processors.
std::vector<Hypothesis> search_all(const std::vector<SpacePtr>& spaces, const Subject& subject,
                                   std::span<const Search> searches) {
  std::vector<std::vector<Hypothesis>> found_by(spaces.size() * searches.size());
  tbb::parallel_for(std::size_t{0}, found_by.size(), [&](std::size_t i) {
    found_by[i] = searches[i % searches.size()](spaces[i / searches.size()], subject);
  });
  std::vector<Hypothesis> all;
  for (std::vector<Hypothesis>& some : found_by) {
    for (Hypothesis& found : some) all.push_back(std::move(found));
  }
  for (std::size_t i = 0, found = all.size(); i < found; ++i) {
    if (auto whole = without_sizes(all[i], subject)) all.push_back(std::move(*whole));
  }
  for (Hypothesis& found : all) {
    if (!found.chunks) explain_gaps(found, subject);  // there headers of groups lie between entries
    explain_anchors(found, subject);
    drop_front_of_keyed(found);
  }
  std::stable_sort(all.begin(), all.end(),
                   [](const Hypothesis& a, const Hypothesis& b) { return a.bits > b.bits; });
  if (all.size() > kTried) all.resize(kTried);
  return all;
}

void try_all(Findings& findings, std::vector<Hypothesis> all, const Subject& subject, Decodings& decodings,
             const Material& material, OpenContext& context) {
  for (Hypothesis& found : all) {
    explain_names(found, subject);
    if (!found.chunks && found.bits + kMostPackingBits > kBelieved) find_packing(found, subject, decodings);
    if (!found.chunks && found.packing.transform.empty() && found.bits + kMostKeyBits > kBelieved)
      find_data_key(found, subject);
    Drafted drafted{subject, std::move(found), {}, {}, 0, {}};
    drafted.text = draft(drafted.hypothesis, subject, material.same);
    drafted.trial = try_draft(drafted.text, subject, context, kMostRead);
    if (!subject.index && opens_well(drafted.trial))
      drafted.fits = fitting(drafted.text, material.kin, subject.size(), context);
    judge(drafted);
    findings.drafts.push_back(std::move(drafted));
  }
  std::stable_sort(findings.drafts.begin(), findings.drafts.end(),
                   [](const Drafted& a, const Drafted& b) { return a.score > b.score; });
}

/// Looks at the rest of what the records of the explanation that is believed hold, where that is no worse for
/// its draft.
void refine(Findings& findings, std::size_t same, OpenContext& context) {
  Drafted& best = findings.drafts.front();
  const Subject& subject = best.subject;
  Drafted refined = best;
  explain_rest(refined.hypothesis, best.text, subject, context);
  if (refined.hypothesis.columns.size() == best.hypothesis.columns.size()) return;
  refined.text = draft(refined.hypothesis, subject, same);
  refined.trial = try_draft(refined.text, subject, context, kMostRead);
  if (refined.trial.failure.empty() && refined.trial.failed <= best.trial.failed) best = std::move(refined);
}

}  // namespace

Findings study(const Material& material, OpenContext& context) {
  Subject subject{material.file.source, material.file.name, std::nullopt};
  subject.anchors = material.anchors;
  constexpr std::array<Search, 1> kWords = {search_digits};
  constexpr std::array<Search, 4> kPlain = {search_tables, search_records, search_unordered, search_digits};
  constexpr std::array<Search, 3> kChains = {search_chains, search_varints, search_chunks};
  Findings findings;
  if (subject.size() < kLeastFile) return findings;
  Decodings decodings;
  // The costlier ways only where the others leave something open.
  std::vector<SpacePtr> spaces = plain_spaces(subject);
  if (is_all_text(spaces)) {
    try_all(findings, search_all(spaces, subject, kWords), subject, decodings, material, context);
  } else {
    try_all(findings, search_all(spaces, subject, kPlain), subject, decodings, material, context);
    if (!findings.certain())
      try_all(findings, search_all(spaces, subject, kChains), subject, decodings, material, context);
    if (!findings.certain())
      try_all(findings, search_all(disguised_spaces(subject), subject, kPlain), subject, decodings, material,
              context);
  }
  std::vector<NamedFile> others;
  if (material.beside && !findings.certain()) others = material.beside();
  for (const NamedFile& other : others) {
    if (findings.certain()) break;
    Subject pair = paired(material.file, other);
    Decodings of_pair;
    try_all(findings, search_all({index_space(pair)}, pair, kPlain), pair, of_pair, material, context);
    if (!findings.certain())
      try_all(findings, search_all(disguised_spaces(pair), pair, kPlain), pair, of_pair, material, context);
  }
  if (!findings.solved()) {
    if (auto learned = learned_from_kin(material, context))
      findings.drafts.insert(findings.drafts.begin(), *std::move(learned));
  } else {
    refine(findings, material.same, context);
  }
  return findings;
}

bool Findings::certain() const {
  return solved() && drafts.front().trial.explained > kWhole && drafts.front().hypothesis.bits > kCertain;
}

}  // namespace operculum::study
