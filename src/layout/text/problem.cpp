#include "layout/text/problem.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum::layout {

Description::Place Description::place_of(std::size_t at) const {
  std::string_view all = text;
  at = std::min(at, all.size());
  std::size_t begin = at == 0 ? std::string_view::npos : all.rfind('\n', at - 1);
  begin = begin == std::string_view::npos ? 0 : begin + 1;
  std::size_t end = std::min(all.find('\n', at), all.size());
  auto line = static_cast<std::size_t>(
                  std::count(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(begin), '\n')) +
              1;
  return {line, display_width(escape(all.substr(begin, at - begin))) + 1, all.substr(begin, end - begin)};
}

std::string Description::show(const Problem& problem) const {
  Place place = place_of(problem.where.at);
  std::string line;
  for (char c : place.content) line += c == '\t' ? ' ' : c;
  std::size_t room = line.size() - std::min(line.size(), place.column - 1);
  std::size_t carets = std::max<std::size_t>(1, std::min(problem.where.length, room));
  std::string out = fmt::format("{}:{}:{}: {}: {}\n  {}\n  {}{}\n", escape(name), place.line, place.column,
                                problem.level == Problem::Level::error ? "error" : "warning", problem.text,
                                escape(line), std::string(place.column - 1, ' '), std::string(carets, '^'));
  if (!problem.hint.empty()) out += fmt::format("  hint: {}\n", problem.hint);
  return out;
}

std::string Description::line_of(std::size_t at) const {
  return fmt::format("{} line {}", escape(name), place_of(at).line);
}

}  // namespace operculum::layout
