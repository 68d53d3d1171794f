#include "layout/plan/arithmetic.h"

#include <fmt/format.h>

namespace operculum::layout {

std::int64_t compute(const Run& run, const Span& where, char what, std::int64_t a, std::int64_t b) {
  std::int64_t result = 0;
  bool overflow = false;
  switch (what) {
    case '+':
      overflow = __builtin_add_overflow(a, b, &result);
      break;
    case '-':
      overflow = __builtin_sub_overflow(a, b, &result);
      break;
    case '*':
      overflow = __builtin_mul_overflow(a, b, &result);
      break;
    case '/':
    case '%':
      if (b == 0) run.fail(where, fmt::format("{} is divided by zero", a));
      if (a == INT64_MIN && b == -1) {
        overflow = true;
        break;
      }
      return what == '/' ? a / b : a % b;
    case 'x':
      return a ^ b;
    case '&':
      return a & b;
    case '|':
      return a | b;
    case '<':
      return b < 0 || b > 63 ? 0 : static_cast<std::int64_t>(static_cast<std::uint64_t>(a) << b);
    default:
      return b < 0 || b > 63 ? 0 : static_cast<std::int64_t>(static_cast<std::uint64_t>(a) >> b);
  }
  if (overflow) run.fail(where, fmt::format("{} {} {} leaves the range of 64-bit numbers", a, what, b));
  return result;
}

}  // namespace operculum::layout
