#pragma once

#include <fmt/format.h>

#include <array>
#include <string>

#include "base/bytes.h"

namespace operculum::study {

/// How a number lies in bytes: its width in bytes and which end comes first.
struct NumberForm {
  unsigned width = 4;  ///< 1 to 8
  bool big = false;    ///< the highest byte comes first
  bool operator==(const NumberForm&) const = default;
};

/// The forms that are tried, the likeliest first.
constexpr std::array<NumberForm, 8> kNumberForms = {
    {{4, false}, {4, true}, {8, false}, {8, true}, {2, false}, {2, true}, {3, false}, {3, true}}};

/// Those of four bytes and more among them, which the whole of a file may need.
constexpr std::array<NumberForm, 4> kWideForms = {{{4, false}, {4, true}, {8, false}, {8, true}}};

/// Those that numbers of records have.
constexpr std::array<NumberForm, 5> kRecordForms = {
    {{4, false}, {4, true}, {2, false}, {2, true}, {1, false}}};

/// The largest number of that form.
constexpr std::uint64_t all_ones(NumberForm form) {
  return ~std::uint64_t{0} >> (64 - 8 * form.width);
}

/// A number of that form as one that may be below zero, in 64 bits.
constexpr std::uint64_t sign_extended(std::uint64_t stored, NumberForm form) {
  unsigned unused = 64 - 8 * form.width;
  return static_cast<std::uint64_t>(static_cast<std::int64_t>(stored << unused) >> unused);
}

/// Whether such a number is below zero.
constexpr bool is_negative(std::uint64_t stored, NumberForm form) {
  return (stored >> (8 * form.width - 1)) != 0;
}

/// The number at `bytes`, which has at least `form.width` bytes.
inline std::uint64_t read_number(const Byte* bytes, NumberForm form) {
  std::uint64_t value = 0;
  if (form.big) {
    for (unsigned i = 0; i < form.width; ++i) value = (value << 8) | bytes[i];
  } else {
    for (unsigned i = form.width; i > 0; --i) value = (value << 8) | bytes[i - 1];
  }
  return value;
}

/// Its type in the layout language, in a description whose order is `big`: "u32", "u16 little", "i32".
inline std::string type_of(NumberForm form, bool big, char kind = 'u') {
  std::string type = fmt::format("{}{}", kind, form.width * 8);
  if (form.width > 1 && form.big != big) type += form.big ? " big" : " little";
  return type;
}

/// The smallest multiple of `step` that is not below `value`.
constexpr std::uint64_t round_up(std::uint64_t value, std::uint64_t step) {
  return step <= 1 ? value : (value + step - 1) / step * step;
}

}  // namespace operculum::study
