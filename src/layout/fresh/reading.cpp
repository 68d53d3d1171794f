#include "layout/fresh/reading.h"

#include <algorithm>
#include <set>
#include <tuple>

#include "base/error.h"
#include "container/format.h"
#include "layout/rewrite/blocks.h"
#include "layout/rewrite/on_trial.h"

namespace operculum::layout {
namespace {

/// Bytes that were read as one thing, and as what.
struct Claim {
  std::uint64_t at, length;
  const void* as;
  bool operator<(const Claim& other) const {
    return std::tie(at, length, as) < std::tie(other.at, other.length, other.as);
  }
};

std::uint64_t overlap_of(const Reading& reading) {
  std::set<Claim> claims;
  for (const NumberRead& read : reading.reads.numbers) claims.insert({read.at, read.width, read.plan});
  for (const TextRead& read : reading.reads.texts) claims.insert({read.at, read.length, read.plan});
  for (const Compared::Constant& one : reading.compared.constants)
    claims.insert({one.at, one.bytes.size(), nullptr});
  if (reading.data && reading.data->length > 0)
    claims.insert({reading.data->at, reading.data->length, &reading});
  std::uint64_t out = 0, end = 0;
  for (const Claim& claim : claims) {
    std::uint64_t claim_end = claim.at + claim.length;
    if (claim.at < end) out += std::min(end, claim_end) - claim.at;
    end = std::max(end, claim_end);
  }
  return out;
}

/// Of the first file's bytes.
void add_wrong_sums(Reading& out) {
  auto add = [&](const ExpectedSum& sum, const RecipePtr& bytes) {
    try {
      Bytes computed = computed_sum(*sum.check, bytes);
      if (computed != sum.value) out.checks.push_back({sum, std::move(computed)});
    } catch (const Malformed&) {  // nothing that can be decoded yet
    }
  };
  auto stored = std::make_shared<Recipe>(*out.look.recipe);
  stored->steps.clear();
  static const CheckPlan kCrc32 = {{}, "crc32", {}, CheckPlan::Of::data, nullptr, nullptr};
  if (out.look.crc32) {
    Bytes value;
    for (unsigned shift : {24, 16, 8, 0}) value.push_back(static_cast<Byte>(*out.look.crc32 >> shift));
    add({&kCrc32, value}, out.look.recipe);
  }
  for (const ExpectedSum& sum : out.look.of_data) add(sum, out.look.recipe);
  for (const ExpectedSum& sum : out.look.of_stored) add(sum, stored);
}

void look_at_entries(const OnTrial& container, const Source& source, Reading& out) {
  std::span<const Entry> entries = container->entries();
  bool has_file = false;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (entries[i].kind != EntryKind::file || !entries[i].has_data()) continue;
    if (entries[i].path.empty() || entries[i].is(Entry::damaged)) continue;
    ++out.files;
    if (std::exchange(has_file, true)) continue;
    out.path = entries[i].path;
    out.look = container->look(i);
    Extent extent = extent_of(out.look, source);
    if (extent.there) out.data = extent;
    if (extent.length > 0) add_wrong_sums(out);
  }
  std::size_t faults = 0;
  for (const Finding& finding : container->findings()) {
    if (finding.level != Finding::Level::fault) continue;
    ++faults;
    if (out.obstacle.empty()) out.obstacle = finding.text;
  }
  std::vector<DifferingCheck> differing = container->differing_checks();
  out.complete = faults <= differing.size();  // those are put right in the end
  out.checks.insert(out.checks.end(), differing.begin(), differing.end());
}

}  // namespace

std::size_t Reading::steps() const {
  return reads.numbers.size() + reads.texts.size() + reads.runs.size() + reads.placed.size() +
         reads.lists.size() + reads.withins.size() + compared.constants.size();
}

std::string Reading::kind_of_obstacle() const {
  std::size_t behind_line = std::min(obstacle.find(':'), obstacle.size());
  std::string out = obstacle;
  auto digits = std::remove_if(out.begin() + static_cast<std::ptrdiff_t>(behind_line), out.end(),
                               [](char c) { return c >= '0' && c <= '9'; });
  out.erase(digits, out.end());
  return out;
}

std::vector<NumberRead> Reading::numbers() const {
  std::vector<NumberRead> out;
  std::set<std::uint64_t> seen;
  for (const std::vector<NumberRead>* all : {&reads.numbers, &look.reads.numbers})
    for (const NumberRead& read : *all)
      if (seen.insert(read.at).second) out.push_back(read);
  return out;
}

DescribedFile file_of(const std::shared_ptr<const Plan>& plan, const Bytes& bytes, OpenContext& context) {
  SourcePtr source = make_memory_source(bytes);
  std::string name = plan->suffixes.empty() ? "new" : "new" + plan->suffixes.front();
  return {plan, {make_content(source), name}, source, &context};
}

Reading read_fresh(const std::shared_ptr<const Plan>& plan, Bytes bytes, OpenContext& context) {
  Reading out;
  out.bytes = std::move(bytes);
  Compared compared;
  Recorder reads;
  reads.compared = &compared;
  DescribedFile file = file_of(plan, out.bytes, context);
  try {
    OnTrial container = open_on_trial(file, file.source, &reads);
    out.opened = true;
    look_at_entries(container, *file.source, out);
  } catch (const CutShort& error) {
    out.cut_short = true;
    out.obstacle = error.what();
  } catch (const Malformed& error) {
    out.obstacle = error.what();
  } catch (const LimitExceeded& error) {
    out.endless = true;
    out.obstacle = error.what();
  }
  out.cut_short |= !out.complete && out.opened && !out.endless;  // a listing tells no kind of what ended it
  out.reads = std::move(reads);
  out.compared = std::move(compared);
  out.reads.compared = nullptr;
  out.overlap = overlap_of(out);
  return out;
}

}  // namespace operculum::layout
