#include "task/study_file.h"

#include "container/locator.h"

namespace operculum {
namespace {

constexpr std::size_t kMostSame = 64;  // bytes that are compared

/// How many of the first bytes all files have in common.
std::size_t same_bytes(const Source& first, const std::vector<std::string>& others, OpenContext& context) {
  Bytes front = read_up_to(first, 0, kMostSame);
  std::size_t same = front.size();
  for (const std::string& target : others) {
    Place place = resolve(target, context, Step::bytes);
    Bytes other = read_up_to(*random_access(*place.content, context.spool), 0, kMostSame);
    std::size_t i = 0;
    while (i < std::min(same, other.size()) && front[i] == other[i]) ++i;
    same = i;
  }
  return same;
}

}  // namespace

StudyReport study_files(const std::vector<std::string>& targets, OpenContext& context) {
  Place place = resolve(targets.front(), context, Step::bytes);
  StudyReport report;
  report.target = targets.front();
  SourcePtr source = random_access(*place.content, context.spool);
  report.size = source->size();
  Opened known = recognise_content(place.content, place.name, context);
  if (known.format != nullptr) report.known_as = known.format->name;
  report.same = same_bytes(*source, {targets.begin() + 1, targets.end()}, context);
  report.profile = study::profile_of(*source);
  report.findings = study::study({source, place.name}, report.same, context);
  return report;
}

}  // namespace operculum
