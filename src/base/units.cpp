#include "base/units.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"

namespace operculum {
namespace {
constexpr std::array<std::string_view, 7> kUnits = {"B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
}

std::string human_size(std::uint64_t bytes) {
  double value = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (value >= 1023.95 && unit + 1 < kUnits.size()) {
    value /= 1024;
    ++unit;
  }
  return unit == 0 ? fmt::format("{} B", bytes) : fmt::format("{:.1f} {}", value, kUnits[unit]);
}

std::optional<std::uint64_t> parse_size(std::string_view text) {
  text = trim(text);
  std::size_t digits = text.find_first_not_of("0123456789");
  auto number = parse_number(text.substr(0, digits));
  if (!number) return std::nullopt;
  std::string unit = to_lower(trim(digits == std::string_view::npos ? "" : text.substr(digits)));
  std::uint64_t factor = 1;
  for (std::string_view name : kUnits) {
    std::string lower = to_lower(name);
    if (unit == lower || (unit.size() == 1 && unit[0] == lower[0]) || (unit.empty() && name == "B")) {
      std::uint64_t bytes = 0;
      if (__builtin_mul_overflow(*number, factor, &bytes)) return std::nullopt;
      return bytes;
    }
    factor <<= 10;
  }
  return std::nullopt;
}

std::string grouped(std::uint64_t number) {
  std::string digits = std::to_string(number);
  for (std::size_t i = digits.size(); i > 3;) digits.insert(i -= 3, ",");
  return digits;
}

std::string counted(std::uint64_t count, std::string_view one, std::string_view many) {
  return fmt::format("{} {}", grouped(count), count == 1 ? one : many);
}

std::string with_article(std::string_view words) {
  std::string_view first = words.substr(0, words.find_first_of(" -"));
  // Spoken as words although they are in capitals, and letters although they are not.
  constexpr std::string_view kWords[] = {"FAT",   "ROM",   "RAM",   "LUKS",  "NILFS",
                                         "MINIX", "ROMFS", "FAT12", "FAT16", "FAT32"};
  bool small = std::any_of(first.begin(), first.end(), [](char c) { return c >= 'a' && c <= 'z'; });
  bool spelled = (!small && first.size() > 1 &&
                  std::find(std::begin(kWords), std::end(kWords), first) == std::end(kWords)) ||
                 first == "xz" || first == "mtree";
  if (words.empty()) return "";
  std::string_view vowels =
      spelled ? "AEFHILMNORSXx" : "aeioAEIO";  // "u" is spoken as in "unit" in our words
  return fmt::format("{} {}", vowels.find(first[0]) == std::string_view::npos ? "a" : "an", words);
}

}  // namespace operculum
