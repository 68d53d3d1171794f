#include "report/review_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/text_table.h"

namespace operculum {
namespace {

constexpr std::size_t kMostShown = 12;

Shown more(std::size_t all, std::string_view one, std::string_view many) {
  return all > kMostShown ? shown("  ... and {}\n", counted(all - kMostShown, one, many)) : Shown();
}

Shown ranges(const LayoutReview& review) {
  if (review.ranges.empty()) return "Every byte is explained.\n";
  TextTable table(
      {{"from"}, {"to"}, {"bytes", TextTable::Align::right}, {"looks"}, {"begins like"}, {"told by"}});
  for (std::size_t i = 0; i < std::min(review.ranges.size(), kMostShown); ++i) {
    const LayoutReview::OpenRange& range = review.ranges[i];
    table.add({fmt::format("{:#x}", range.begin), fmt::format("{:#x}", range.end),
               grouped(range.end - range.begin), std::string(study::name_of(range.look)),
               escape(range.begins_like), escape(range.told_by)});
  }
  return shown("Not explained ({}):\n", counted(review.ranges.size(), "range", "ranges")) + table.text() +
         more(review.ranges.size(), "smaller one", "smaller ones");
}

Shown fields(const LayoutReview& review) {
  if (review.fields.empty()) return "";
  TextTable table({{"field"},
                   {"bytes", TextTable::Align::right},
                   {"different", TextTable::Align::right},
                   {"least", TextTable::Align::right},
                   {"most", TextTable::Align::right},
                   {"could be"}});
  for (const LayoutReview::OpenField& field : review.fields)
    table.add({escape(field.name), std::to_string(field.size),
               fmt::format("{} of {}", field.distinct, field.records), std::to_string(field.least),
               std::to_string(field.most), field.idea});
  return Shown("\nRead, but used by no entry:\n") + table.text();
}

Shown failing(const LayoutReview& review) {
  if (review.failing.empty()) return "";
  Shown text = "\nEntries that cannot be read:\n";
  for (std::size_t i = 0; i < std::min(review.failing.size(), kMostShown); ++i)
    text += shown("  {} of {}, the first is {}: {}\n", review.failing[i].entries, review.read,
                  escape(review.failing[i].first), review.failing[i].why);
  return text + more(review.failing.size(), "reason more", "reasons more");
}

}  // namespace

Shown review_text(const LayoutReview& review) {
  const LayoutTrial& trial = review.trial;
  if (!trial.failure.empty())
    return shown("{}: the description does not fit: {}\n\n{}", escape(trial.target), trial.failure,
                 ranges(review));
  auto bytes = bytes_by_kind(trial.ranges);
  std::uint64_t open = bytes[static_cast<std::size_t>(layout::CoverRange::Kind::unexplained)];
  double share = trial.size == 0 ? 0 : 100.0 * static_cast<double>(open) / static_cast<double>(trial.size);
  return shown("{}: {}; {:.1f} % of {} bytes are not explained.\n\n", escape(trial.target),
               counted(trial.entries, "entry", "entries"), share, grouped(trial.size)) +
         ranges(review) + fields(review) + failing(review);
}

}  // namespace operculum
