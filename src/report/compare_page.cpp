#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/compare_text.h"
#include "report/hex_view.h"
#include "report/html.h"

namespace operculum {
namespace {

constexpr int kWidth = 1000;  // of a drawing, in its own units

constexpr std::string_view kCompareStyle = R"css(<style>
:root { --same: #9bb8a6; --changed: #d9a441; --moved: #7a6bb0; --added: #3f9a5f; --removed: #c4552f; --unreadable: #8a8f92; --metadata: #2f8fd0 }
svg.strip { width: 100%; height: 1.1rem; border-radius: .25rem; background: var(--same); display: block; margin: .3rem 0 }
svg.whole { width: 100%; height: 2rem; border-radius: .5rem; display: block; margin: .5rem 0 }
.f-same { fill: var(--same) } .f-changed { fill: var(--changed) } .f-moved { fill: var(--moved) } .f-added { fill: var(--added) }
.f-removed { fill: var(--removed) } .f-unreadable { fill: var(--unreadable) }
i.same { background: var(--same) } i.changed { background: var(--changed) } i.moved { background: var(--moved) } i.added { background: var(--added) }
i.removed { background: var(--removed) } i.unreadable { background: var(--unreadable) }
.plus { color: var(--added) } .minus { color: var(--removed) } .at { color: var(--mark) } mark { background: none; color: var(--alarm); font-weight: 700 }
@media print { body { max-width: none } details > * { display: block } }
</style>
)css";

std::string hex_side(ByteView ours, ByteView theirs) {
  auto mark = [](const std::string& digits) { return "<mark>" + digits + "</mark>"; };
  return fmt::format("{} {}{}", hex_digits(ours, theirs, mark), html(hex_letters(ours)),
                     std::string(8 - ours.size(), ' '));
}

/// Where in a file the differing ranges lie, and how they begin.
std::string bytes_html(const ByteDiff& bytes) {
  double longest = static_cast<double>(std::max<std::uint64_t>({bytes.before_size, bytes.after_size, 1}));
  std::string out =
      fmt::format("<svg class=\"strip\" viewBox=\"0 0 {} 10\" preserveAspectRatio=\"none\">", kWidth);
  auto bar = [&](std::string_view kind, std::uint64_t begin, std::uint64_t end) {
    double from = kWidth * static_cast<double>(begin) / longest;
    double width = std::max(2.0, kWidth * static_cast<double>(end) / longest - from);
    out += fmt::format(
        "<rect class=\"f-{}\" x=\"{:.2f}\" width=\"{:.2f}\" height=\"10\"><title>{:#x} to "
        "{:#x}</title></rect>",
        kind, from, width, begin, end);
  };
  for (const ByteDiff::Range& range : bytes.ranges) bar("changed", range.begin, range.end);
  if (bytes.after_size > bytes.before_size) bar("added", bytes.before_size, bytes.after_size);
  if (bytes.after_size < bytes.before_size) bar("removed", bytes.after_size, bytes.before_size);
  out += "</svg>\n<pre>";
  for (const HexPair& row : hex_pairs(bytes))
    out += fmt::format("<span class=\"at\">{:08x}</span>  {}    {}\n", row.at,
                       hex_side(row.before, row.after), hex_side(row.after, row.before));
  return out + "</pre>\n";
}

std::string text_html(const TextDiff& text) {
  std::string out = "<pre>";
  std::string lines = unified(text);
  for (std::string_view line : split(lines, '\n')) {
    if (line.empty()) continue;
    std::string_view kind = line[0] == '+' ? "plus" : line[0] == '-' ? "minus" : line[0] == '@' ? "at" : "";
    out += fmt::format("<span class=\"{}\">{}</span>\n", kind, html(line));
  }
  return out + "</pre>\n";
}

/// How much of everything is the same, as one bar.
std::string whole_bar(const CompareTotals& totals) {
  struct Share {
    std::string_view kind;
    std::uint64_t count;
  };
  const Share shares[] = {{"same", totals.same},       {"changed", totals.changed},
                          {"moved", totals.moved},     {"added", totals.added},
                          {"removed", totals.removed}, {"unreadable", totals.unreadable}};
  std::uint64_t all = 0;
  for (const Share& share : shares) all += share.count;
  std::string bar =
      fmt::format("<svg class=\"whole\" viewBox=\"0 0 {} 10\" preserveAspectRatio=\"none\">", kWidth);
  std::string legend = "<p class=\"legend\">";
  double x = 0;
  for (const Share& share : shares) {
    if (share.count == 0) continue;
    double width =
        kWidth * static_cast<double>(share.count) / static_cast<double>(std::max<std::uint64_t>(all, 1));
    bar += fmt::format("<rect class=\"f-{}\" x=\"{:.2f}\" width=\"{:.2f}\" height=\"10\"/>", share.kind, x,
                       width);
    legend += fmt::format("<span><i class=\"{0}\"></i>{1} {0}</span>", share.kind, grouped(share.count));
    x += width;
  }
  return bar + "</svg>\n" + legend + "</p>\n";
}

}  // namespace

void ComparePage::add(const Difference& difference) {
  auto kind = static_cast<std::size_t>(difference.kind);
  if (++counts_[kind] > kShown) return;
  std::string path = html(escape(difference.path));
  if (!difference.new_path.empty()) path += " &rarr; " + html(escape(difference.new_path));
  std::string head = fmt::format("<span class=\"path\">{}</span> <span class=\"soft\">{}</span>", path,
                                 html(difference_text(difference)));
  std::string inside = difference.text && !difference.text->hunks.empty() ? text_html(*difference.text)
                       : difference.bytes                                 ? bytes_html(*difference.bytes)
                                                                          : "";
  std::string& section = sections_[kind];
  section += inside.empty()
                 ? fmt::format("<li>{}</li>\n", head)
                 : fmt::format("<li><details open><summary>{}</summary>{}</details></li>\n", head, inside);
}

std::string ComparePage::finish(const CompareTotals& totals) const {
  constexpr std::string_view kTitles[] = {"Changed", "Added",          "Removed",
                                          "Moved",   "Other metadata", "Could not be compared"};
  std::string out = page_head("Compare: " + before_ + " and " + after_) + std::string(kCompareStyle);
  out += fmt::format("<h1>{} and {}</h1>\n<p class=\"lead\">{}</p>\n{}", html(before_), html(after_),
                     html(totals_text(totals)), whole_bar(totals));
  for (std::size_t kind = 0; kind < sections_.size(); ++kind) {
    if (counts_[kind] == 0) continue;
    out += fmt::format("<h2>{} ({})</h2>\n<ul>\n{}</ul>\n", kTitles[kind], grouped(counts_[kind]),
                       sections_[kind]);
    if (counts_[kind] > kShown) out += fmt::format("<p>and {} more</p>\n", grouped(counts_[kind] - kShown));
  }
  return out + "</body>\n</html>\n";
}

}  // namespace operculum
