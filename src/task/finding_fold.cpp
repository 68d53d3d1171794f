#include "task/finding_fold.h"

#include <fmt/format.h>

#include <map>

#include "base/units.h"

namespace operculum {
namespace {

constexpr std::size_t kPlaces = 3;

/// The place and the sentence behind it; no place where there is no colon.
std::pair<std::string_view, std::string_view> parts_of(std::string_view text) {
  std::size_t colon = text.find(": ");
  if (colon == std::string_view::npos) return {{}, text};
  return {text.substr(0, colon), text.substr(colon + 2)};
}

/// The sentence with each number as #.
std::string shape_of(std::string_view sentence) {
  std::string shape;
  for (char c : sentence) {
    bool digit = c >= '0' && c <= '9';
    if (!digit) {
      shape += c;
    } else if (!shape.ends_with('#')) {
      shape += '#';
    }
  }
  return shape;
}

}  // namespace

std::vector<FoldedFinding> fold(std::span<const Finding> findings) {
  std::vector<FoldedFinding> all;
  std::map<std::string, std::size_t> known;
  for (const Finding& finding : findings) {
    auto [place, sentence] = parts_of(finding.text);
    std::string shape = fmt::format("{} {}", static_cast<int>(finding.level),
                                    place.empty() ? std::string(sentence) : shape_of(sentence));
    auto [at, fresh] = known.try_emplace(std::move(shape), all.size());
    if (fresh) {
      all.push_back({finding.level, finding.text, 1, {std::string(place)}});
      continue;
    }
    FoldedFinding& folded = all[at->second];
    if (++folded.count == 2) folded.text = std::string(parts_of(folded.text).second);
    if (folded.places.size() < kPlaces) folded.places.emplace_back(place);
  }
  for (FoldedFinding& one : all)
    if (one.count == 1) one.places.clear();
  return all;
}

std::string to_text(const FoldedFinding& finding) {
  if (finding.count == 1) return finding.text;
  std::string more = finding.count > finding.places.size()
                         ? fmt::format(" and {} more", grouped(finding.count - finding.places.size()))
                         : "";
  return fmt::format("{} times: {} ({}{})", grouped(finding.count), finding.text,
                     fmt::join(finding.places, ", "), more);
}

}  // namespace operculum
