#include "layout/rewrite/number_writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/text.h"
#include "layout/plan/read_plan.h"

namespace operculum::layout {
namespace {

/// The number as it is stored for a value that has gone through the plan's arithmetic.
std::optional<std::int64_t> without_steps(const NumberPlan& plan, std::int64_t value) {
  for (auto step = plan.steps.rbegin(); step != plan.steps.rend(); ++step) {
    if (!step->constant) return std::nullopt;
    std::int64_t operand = *step->constant, out = 0;
    switch (step->what) {
      case '+':
        if (__builtin_sub_overflow(value, operand, &out)) return std::nullopt;
        break;
      case '-':
        if (__builtin_add_overflow(value, operand, &out)) return std::nullopt;
        break;
      case 'x':
        out = value ^ operand;
        break;
      case '*':
        if (operand == 0 || value % operand != 0) return std::nullopt;
        out = value / operand;
        break;
      case '/':
        if (__builtin_mul_overflow(value, operand, &out)) return std::nullopt;
        break;
      default:
        return std::nullopt;
    }
    value = out;
  }
  return value;
}

std::optional<Bytes> fixed_bytes(const NumberRead& read, std::int64_t raw) {
  unsigned bits = 8 * read.width;
  if (bits < 64) {
    std::int64_t most = (std::int64_t{1} << (read.plan->is_signed ? bits - 1 : bits)) - 1;
    std::int64_t least = read.plan->is_signed ? -most - 1 : 0;
    if (raw < least || raw > most) return std::nullopt;
  }
  Bytes out(read.width);
  for (unsigned i = 0; i < read.width; ++i) {
    unsigned at = read.big ? read.width - 1 - i : i;
    out[at] = static_cast<Byte>(static_cast<std::uint64_t>(raw) >> (8 * i));
  }
  return out;
}

/// Groups of seven bits; shorter numbers are filled up with groups of zeros.
std::optional<Bytes> group_bytes(const NumberRead& read, std::int64_t raw) {
  if (raw < 0 || (read.width < 9 && raw >> (7 * read.width) != 0)) return std::nullopt;
  bool high_first = read.plan->form == NumberPlan::Form::vlq;
  if (read.plan->form == NumberPlan::Form::sleb128 && raw >> (7 * read.width - 1) != 0) return std::nullopt;
  Bytes out(read.width);
  for (unsigned i = 0; i < read.width; ++i) {
    unsigned group = high_first ? read.width - 1 - i : i;
    out[i] = static_cast<Byte>((raw >> (7 * group)) & 0x7f);
    if (i + 1 < read.width) out[i] |= 0x80;
  }
  return out;
}

/// The digits of a number that was read, and what stands in front of them and behind.
struct Digits {
  std::size_t begin = 0, end = 0;
  Bytes before;
};
Digits digits_of(const NumberRead& read, const Source& source) {
  Digits out{0, 0, read_up_to(source, read.at, read.width)};
  auto is_digit = [](Byte b) { return std::isxdigit(b) != 0; };
  auto begin = std::find_if(out.before.begin(), out.before.end(), is_digit);
  out.begin = static_cast<std::size_t>(begin - out.before.begin());
  out.end =
      static_cast<std::size_t>(std::find_if_not(begin, out.before.end(), is_digit) - out.before.begin());
  return out;
}

std::string digits_for(const NumberPlan& plan, std::int64_t raw) {
  auto value = static_cast<std::uint64_t>(raw);
  return plan.base == 16  ? fmt::format("{:x}", value)
         : plan.base == 8 ? fmt::format("{:o}", value)
                          : fmt::format("{}", value);
}

/// Digits in the place of those that were there, filled up as they were.
std::optional<Bytes> digit_bytes(const NumberRead& read, std::int64_t raw, const Source& source) {
  auto [begin, end, before] = digits_of(read, source);
  if (raw < 0 || begin == end) return std::nullopt;
  std::size_t count = end - begin, room = before.size() - begin;
  std::string digits = digits_for(*read.plan, raw);
  bool zeros = before[begin] == '0' && count > 1, counted = read.plan->ends == NumberPlan::Ends::length;
  if (digits.size() < count && zeros) digits.insert(0, count - digits.size(), '0');
  if (digits.size() > room || (digits.size() > count && !counted)) return std::nullopt;
  if (digits.size() < count && end == before.size() && !counted) return std::nullopt;
  Byte filler = end == before.size() ? ' ' : before[end];
  Bytes out(before.begin(), before.begin() + static_cast<std::ptrdiff_t>(begin));
  out.insert(out.end(), digits.begin(), digits.end());
  while (out.size() < before.size()) {
    std::size_t at = out.size();
    out.push_back(at < end ? filler : before[at]);
  }
  return out;
}

bool ends_by_itself(const NumberPlan& plan) {
  bool fixed = plan.form == NumberPlan::Form::fixed;
  bool counted = plan.form == NumberPlan::Form::digits && plan.ends == NumberPlan::Ends::length;
  return !fixed && !counted;
}

}  // namespace

std::optional<unsigned> wider_for(const NumberRead& read, std::int64_t value, const Source& source) {
  auto raw = without_steps(*read.plan, value);
  if (!raw || *raw < 0 || !ends_by_itself(*read.plan)) return std::nullopt;
  if (read.plan->form == NumberPlan::Form::digits) {
    Digits digits = digits_of(read, source);
    std::size_t more = digits_for(*read.plan, *raw).size(), had = digits.end - digits.begin;
    return more > had ? std::optional(read.width + static_cast<unsigned>(more - had)) : std::nullopt;
  }
  NumberRead wider = read;
  constexpr unsigned kMostGroups = 9;
  while (++wider.width <= kMostGroups)
    if (group_bytes(wider, *raw)) return wider.width;
  return std::nullopt;
}

std::optional<Bytes> bytes_in(unsigned width, const NumberRead& read, std::int64_t value,
                              const Source& source) {
  auto raw = without_steps(*read.plan, value);
  if (!raw || *raw < 0) return std::nullopt;
  if (read.plan->form != NumberPlan::Form::digits) {
    NumberRead wider = read;
    wider.width = width;
    return group_bytes(wider, *raw);
  }
  Digits digits = digits_of(read, source);
  std::string text = digits_for(*read.plan, *raw);
  if (digits.before.size() - (digits.end - digits.begin) + text.size() != width) return std::nullopt;
  Bytes out(digits.before.begin(), digits.before.begin() + static_cast<std::ptrdiff_t>(digits.begin));
  out.insert(out.end(), text.begin(), text.end());
  out.insert(out.end(), digits.before.begin() + static_cast<std::ptrdiff_t>(digits.end), digits.before.end());
  return out;
}

std::optional<Bytes> bytes_for(const NumberRead& read, std::int64_t value, const Source& source) {
  auto raw = without_steps(*read.plan, value);
  if (!raw) return std::nullopt;
  switch (read.plan->form) {
    case NumberPlan::Form::fixed:
      return fixed_bytes(read, *raw);
    case NumberPlan::Form::digits:
      return digit_bytes(read, *raw, source);
    default:
      return group_bytes(read, *raw);
  }
}

}  // namespace operculum::layout
