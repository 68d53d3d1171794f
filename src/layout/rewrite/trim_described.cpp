#include "layout/rewrite/trim_described.h"

#include "base/error.h"
#include "layout/coverage.h"
#include "layout/rewrite/attempt.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kAlignments[] = {0,   4,    16,  64,
                                         512, 2048, 4096};  // tried in turn; 0: as data seems to be
constexpr std::size_t kMostSampled = 20'000;  // entries: of more it takes too long to tell beforehand
constexpr std::uint64_t kShare = 8;           // of the file: less is not told beforehand
constexpr std::uint64_t kMuch = 1 << 20;      // bytes: so is less than that

std::vector<Cut> gaps_of(const DescribedFile& file) {
  Tracer tracer;
  OnTrial container = open_on_trial(file, file.source);
  container->observe_all(tracer);
  std::vector<Cut> gaps;
  for (const CoverRange& range : tracer.ranges(*file.source)) {
    if (range.kind == CoverRange::Kind::padding && is_filling(*file.source, range.begin, range.end))
      gaps.push_back({range.begin, range.end});
  }
  return gaps;
}

std::uint64_t total(const std::vector<Cut>& gaps) {
  std::uint64_t sum = 0;
  for (const Cut& gap : gaps) sum += gap.to - gap.from;
  return sum;
}

}  // namespace

std::optional<Trimmed> trim_described(const DescribedFile& file, Look look) {
  std::vector<Cut> gaps = gaps_of(file);
  std::uint64_t most = total(gaps);
  if (most == 0) return std::nullopt;
  Survey survey(file);
  bool little = most < kMuch && most < file.source->size() / kShare;
  if (look == Look::samples && (little || survey.extents.size() > kMostSampled)) return std::nullopt;
  std::string reason;
  for (std::uint64_t alignment : kAlignments) {
    try {
      Trimmed out{attempt(survey, {Strategy::Where::shift, alignment}, {}, nullptr, gaps).bytes};
      if (out.result.size() < file.source->size()) return out;
      return std::nullopt;
    } catch (const Unsupported& error) {
      if (reason.empty()) reason = error.what();
    } catch (const Malformed& error) {  // of reading the result
      if (reason.empty()) reason = error.what();
    }
  }
  constexpr std::string_view kPrefix = "Unsupported: ";  // which the error has by itself
  throw Unsupported(reason.starts_with(kPrefix) ? reason.substr(kPrefix.size()) : reason);
}

}  // namespace operculum::layout
