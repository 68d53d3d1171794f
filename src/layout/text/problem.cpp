#include "layout/text/problem.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kLongLine = 400, kShown = 160, kInFront = 60;  // bytes

/// `at` or the first place in front of it where a character begins.
std::size_t at_character(std::string_view text, std::size_t at) {
  while (at > 0 && (static_cast<unsigned char>(text[at]) & 0xC0) == 0x80) --at;
  return at;
}

}  // namespace

Description::Place Description::place_of(std::size_t at) const {
  std::string_view all = text;
  at = std::min(at, all.size());
  std::size_t begin = at == 0 ? std::string_view::npos : all.rfind('\n', at - 1);
  begin = begin == std::string_view::npos ? 0 : begin + 1;
  std::size_t end = std::min(all.find('\n', at), all.size());
  auto line = static_cast<std::size_t>(
                  std::count(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(begin), '\n')) +
              1;
  // Lines of such length are no text that anyone counts columns in.
  std::size_t before =
      at - begin > kLongLine ? at - begin : display_width(escape(all.substr(begin, at - begin)));
  return {line, before + 1, all.substr(begin, end - begin)};
}

std::string Description::show(const Problem& problem) const {
  Place place = place_of(problem.where.at);
  std::string_view shown = place.content;
  std::size_t indent = place.column - 1;
  if (shown.size() > kLongLine) {  // only what is around the place
    std::size_t at = std::min(problem.where.at, text.size()) -
                     static_cast<std::size_t>(place.content.data() - text.data());
    std::size_t from = at > kInFront ? at_character(shown, at - kInFront) : 0;
    indent = display_width(escape(shown.substr(from, at - from)));
    shown = shown.substr(from, kShown);
  }
  std::string line;
  for (char c : shown) line += c == '\t' ? ' ' : c;
  std::size_t room = line.size() - std::min(line.size(), indent);
  std::size_t carets = std::max<std::size_t>(1, std::min(problem.where.length, room));
  std::string out = fmt::format("{}:{}:{}: {}: {}\n  {}\n  {}{}\n", escape(name), place.line, place.column,
                                problem.level == Problem::Level::error ? "error" : "warning", problem.text,
                                escape(line), std::string(indent, ' '), std::string(carets, '^'));
  if (!problem.hint.empty()) out += fmt::format("  hint: {}\n", problem.hint);
  return out;
}

std::string Description::line_of(std::size_t at) const {
  return fmt::format("{} line {}", escape(name), place_of(at).line);
}

}  // namespace operculum::layout
