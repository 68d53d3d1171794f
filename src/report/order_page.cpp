#include <fmt/format.h>

#include <cmath>

#include "base/text.h"
#include "base/units.h"
#include "report/html.h"
#include "report/order_text.h"

namespace operculum {
namespace {

constexpr std::size_t kMostPacks = 60;                            // in the matrix
constexpr std::size_t kMostPaths = 1000;                          // in the list
constexpr int kPackCell = 34, kPackNames = 220, kMatrixTop = 28;  // of the matrix, in its own units

constexpr std::string_view kOrderStyle = R"css(<style>
svg.matrix { max-width: 100%; height: auto } svg.matrix text { font: 12px system-ui, sans-serif; fill: var(--ink) }
svg.matrix .soft { fill: var(--soft) } svg.matrix rect { fill: var(--box); stroke: var(--line) }
svg.matrix .won { fill: #d9a441; stroke: none } svg.matrix .self { fill: var(--line) } svg.matrix .count { fill: #1d2b33 }
td.differs { color: var(--alarm) }
@media print { body { max-width: none } }
</style>
)css";

/// Rows win over columns: the more files that differ, the stronger the colour.
std::string matrix(const LoadingOrder& order) {
  std::size_t count = std::min(order.packs().size(), kMostPacks);
  std::uint64_t most = 1;
  for (std::size_t row = 0; row < count; ++row)
    for (std::size_t column = 0; column < count; ++column)
      most = std::max(most, order.wins_over(row, column));
  int size = static_cast<int>(count) * kPackCell;
  int width = kPackNames + size + 10, height = kMatrixTop + size + 10;
  std::string out = fmt::format(
      "<svg class=\"matrix\" width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} {1}\" role=\"img\" "
      "aria-label=\"who wins over "
      "whom\">\n",
      width, height);
  for (std::size_t i = 0; i < count; ++i) {
    int place = static_cast<int>(i) * kPackCell;
    std::string name = html(pack_name(order.packs()[i]));
    out += fmt::format(
        "<text x=\"{}\" y=\"{}\" text-anchor=\"end\">{} <tspan class=\"soft\">{}</tspan></text>\n",
        kPackNames - 8, kMatrixTop + place + kPackCell * 2 / 3, name, i + 1);
    out += fmt::format("<text class=\"soft\" x=\"{}\" y=\"{}\" text-anchor=\"middle\">{}</text>\n",
                       kPackNames + place + kPackCell / 2, kMatrixTop - 8, i + 1);
    for (std::size_t column = 0; column < count; ++column) {
      int x = kPackNames + static_cast<int>(column) * kPackCell, y = kMatrixTop + place;
      std::uint64_t wins = order.wins_over(i, column);
      out += fmt::format("<rect class=\"{}\" x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\"/>\n",
                         i == column ? "self" : "", x, y, kPackCell, kPackCell);
      if (wins == 0) continue;
      double strength =
          0.25 + 0.75 * std::log1p(static_cast<double>(wins)) / std::log1p(static_cast<double>(most));
      out += fmt::format(
          "<g><title>{} wins over {}: {}</title><rect class=\"won\" opacity=\"{:.2f}\" x=\"{}\" y=\"{}\" "
          "width=\"{}\" "
          "height=\"{}\"/><text class=\"count\" x=\"{}\" y=\"{}\" text-anchor=\"middle\">{}</text></g>\n",
          name, html(pack_name(order.packs()[column])), counted(wins, "file", "files"), strength, x + 1,
          y + 1, kPackCell - 2, kPackCell - 2, x + kPackCell / 2, y + kPackCell * 2 / 3,
          wins < 10000 ? std::to_string(wins) : "many");
    }
  }
  return out + "</svg>\n";
}

std::string packs_rows(const LoadingOrder& order) {
  std::string out =
      "<table><tr><th class=\"number\">loaded</th><th>pack</th><th class=\"number\">files</th><th "
      "class=\"number\">wins</th>"
      "<th class=\"number\">hidden</th><th class=\"number\">hidden, same</th><th>is</th></tr>\n";
  std::size_t number = 0;
  for (const LoadedPack& pack : order.packs()) {
    std::string is = pack.format != nullptr ? std::string(pack.format->name) : "not opened: " + pack.error;
    out += fmt::format(
        "<tr><td class=\"number\">{}</td><td class=\"path\">{}</td><td class=\"number\">{}</td><td "
        "class=\"number\">{}"
        "</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td></tr>\n",
        ++number, html(pack_name(pack)), grouped(pack.files), grouped(pack.wins), grouped(pack.hidden),
        grouped(pack.hidden_same), html(is));
  }
  return out + "</table>\n";
}

}  // namespace

std::string order_page(const LoadingOrder& order) {
  std::string out = page_head("Loading order") + std::string(kOrderStyle);
  std::string rows;
  std::uint64_t contested = 0, differing = 0;
  for (const auto& [key, path] : order.paths()) {
    contested += path.contested() ? 1 : 0;
    if (!path.differs()) continue;
    if (++differing > kMostPaths) continue;
    rows +=
        fmt::format("<tr><td class=\"path\">{}</td><td>{}</td><td>{}</td></tr>\n", html(escape(path.path)),
                    html(pack_name(order.packs()[path.winner().pack])), html(losers_text(order, path)));
  }
  out += fmt::format(
      "<h1>Loading order</h1>\n<p class=\"lead\">{} with {}; {} are in several, {} of these with other "
      "bytes.</p>\n",
      counted(order.packs().size(), "pack", "packs"), counted(order.paths().size(), "path", "paths"),
      grouped(contested), grouped(differing));
  out += packs_rows(order);
  out +=
      "<h2>Who wins over whom</h2>\n<p class=\"soft\">Files of the pack in the row that are taken instead of "
      "different ones "
      "of the pack in the column.</p>\n" +
      matrix(order);
  if (order.packs().size() > kMostPacks)
    out += fmt::format("<p>The first {} packs are drawn.</p>\n", kMostPacks);
  out += "<h2>Paths that differ</h2>\n<table><tr><th>path</th><th>taken from</th><th>over</th></tr>\n" +
         rows + "</table>\n";
  if (differing > kMostPaths) out += fmt::format("<p>and {} more</p>\n", grouped(differing - kMostPaths));
  return out + "</body>\n</html>\n";
}

}  // namespace operculum
