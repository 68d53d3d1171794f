#include "task/version_texts.h"

#include <algorithm>
#include <string_view>

namespace operculum {
namespace {

constexpr std::uint64_t kReach = 64 << 20;
constexpr std::size_t kTextBlock = 1 << 20, kShortest = 10, kLongest = 160;

bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

/// "2.4.1", "v2.4" or "2026.01": numbers with points between, not within a longer word.
bool has_version(std::string_view text) {
  for (std::size_t i = 0; i + 2 < text.size(); ++i) {
    if (!is_digit(text[i]) || (i > 0 && (is_digit(text[i - 1]) || text[i - 1] == '.'))) continue;
    std::size_t points = 0, end = i;
    while (end < text.size() &&
           (is_digit(text[end]) || (text[end] == '.' && end + 1 < text.size() && is_digit(text[end + 1])))) {
      points += text[end] == '.' ? 1 : 0;
      ++end;
    }
    bool marked = i > 0 && (text[i - 1] == 'v' || text[i - 1] == 'V') &&
                  (i == 1 || text[i - 2] == ' ' || text[i - 2] == '-');
    bool after_word = marked || (i > 0 && (text[i - 1] == ' ' || text[i - 1] == '-'));
    bool word_before = text.substr(0, i).find("ersion") != std::string_view::npos;
    bool ends =
        end == text.size() || text[end] == ' ' || text[end] == '-' || text[end] == ',' || text[end] == ')';
    if (points >= 1 && points <= 3 && after_word && ends && (points >= 2 || word_before || marked))
      return true;
    i = end;
  }
  return false;
}

/// "Mar 01 2026" or "Mar  1 2026", as compilers write the day.
bool has_date(std::string_view text) {
  constexpr std::string_view kMonths = "JanFebMarAprMayJunJulAugSepOctNovDec";
  for (std::size_t i = 0; i + 11 <= text.size(); ++i) {
    std::string_view part = text.substr(i, 11);
    std::size_t month = kMonths.find(part.substr(0, 3));
    bool fits = month != std::string_view::npos && month % 3 == 0 && part[3] == ' ' &&
                (is_digit(part[4]) || part[4] == ' ') && is_digit(part[5]) && part[6] == ' ' &&
                (part.substr(7, 2) == "20" || part.substr(7, 2) == "19") && is_digit(part[9]) &&
                is_digit(part[10]);
    if (fits) return true;
  }
  return false;
}

/// A sentence, not a piece of a format string or of code.
bool is_sentence(std::string_view text) {
  auto letters = std::count_if(text.begin(), text.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == ' ';
  });
  return text.find('%') == std::string_view::npos && text.find(' ') != std::string_view::npos &&
         static_cast<std::size_t>(letters) * 2 > text.size();
}

}  // namespace

std::vector<std::string> version_texts(const Source& bytes, std::size_t most) {
  std::vector<std::string> found;
  std::string run;
  auto end_run = [&] {
    if (run.size() >= kShortest && run.size() <= kLongest && is_sentence(run) &&
        (has_date(run) || has_version(run)) && std::find(found.begin(), found.end(), run) == found.end())
      found.push_back(run);
    run.clear();
  };
  std::uint64_t end = std::min(bytes.size(), kReach);
  for (std::uint64_t at = 0; at < end && found.size() < most;) {
    if (std::uint64_t hole = bytes.hole_at(at); hole > 0) {
      at += hole;
      end_run();
      continue;
    }
    Bytes block = read_up_to(bytes, at, std::min<std::uint64_t>(kTextBlock, end - at));
    if (block.empty()) break;
    for (Byte b : block) {
      if (b >= 0x20 && b < 0x7F) {
        if (run.size() <= kLongest) run += static_cast<char>(b);
      } else if (!run.empty()) {
        end_run();
        if (found.size() == most) break;
      }
    }
    at += block.size();
  }
  if (found.size() < most) end_run();
  return found;
}

}  // namespace operculum
