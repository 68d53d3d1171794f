#include <fmt/format.h>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "layout/plan/arithmetic.h"
#include "layout/run/read_bytes.h"

namespace operculum::layout {
namespace {

constexpr unsigned kMostVariableBytes = 10;  // of a 64-bit number in groups of seven bits

/// Seven bits a byte; the highest bit says that more follow. LEB128 (DWARF 5, 7.6) has the lowest group
/// first, the big-endian form (MIDI's variable-length quantity) the highest.
std::int64_t read_groups(Run& run, Reader& reader, const NumberPlan& plan) {
  std::uint64_t value = 0;
  unsigned shift = 0;
  for (unsigned i = 0; i < kMostVariableBytes; ++i) {
    Byte b = take(run, reader, 1, plan.where)[0];
    if (plan.form == NumberPlan::Form::vlq) {
      value = (value << 7) | (b & 0x7f);
    } else {
      value |= std::uint64_t{b & 0x7fu} << shift;
      shift += 7;
    }
    if ((b & 0x80) != 0) continue;
    if (plan.form == NumberPlan::Form::sleb128 && shift < 64 && (b & 0x40) != 0)
      value |= ~std::uint64_t{0} << shift;
    return static_cast<std::int64_t>(value);
  }
  run.fail(plan.where, fmt::format("a variable-length number at offset {} has more than 64 bits",
                                   reader.at - kMostVariableBytes));
}

std::int64_t read_digits(Frame& frame, Reader& reader, const NumberPlan& plan) {
  Run& run = frame.run;
  Value raw;
  if (plan.ends == NumberPlan::Ends::mark) {
    raw = take_until(run, reader, plan.mark, plan.where);
  } else if (plan.ends == NumberPlan::Ends::word) {
    raw = take_word(run, reader, plan.where);
  } else {
    std::uint64_t length = plan.length->size(frame, "the length of a number");
    raw = Value::bytes(reader.region, reader.at, length);
    take(run, reader, length, plan.where);
  }
  std::string text(as_text(run.region(raw.object).at(raw.offset(), std::min<std::uint64_t>(raw.b, 100))));
  std::string_view digits = text;
  while (!digits.empty() && (digits.back() == '\0' || digits.back() == ' ')) digits.remove_suffix(1);
  digits = trim(digits);
  bool negative = digits.starts_with('-');
  if (negative) digits.remove_prefix(1);
  auto value = digits.empty() && plan.ends == NumberPlan::Ends::length ? std::uint64_t{0}
                                                                       : parse_number(digits, plan.base);
  if (!value || raw.b > 100) {
    run.wants(raw.object, raw.offset(), "0" + plan.mark);
    run.fail(plan.where, fmt::format("expected digits at offset {}, found \"{}\"", raw.offset(),
                                     escape(std::string_view(text).substr(0, 24))));
  }
  auto number = static_cast<std::int64_t>(*value);
  return negative ? -number : number;
}

}  // namespace

std::int64_t NumberPlan::raw_of_any_width(ByteView view, bool from_high) const {
  std::uint64_t value = 0;
  for (unsigned i = 0; i < bytes; ++i) value = (value << 8) | view[from_high ? i : bytes - 1 - i];
  if (is_signed && bytes < 8) {
    unsigned unused = 64 - 8 * bytes;
    return static_cast<std::int64_t>(value << unused) >> unused;
  }
  return static_cast<std::int64_t>(value);
}

std::int64_t NumberPlan::computed(Frame& frame, std::int64_t value) const {
  for (const Step& step : steps) {
    std::int64_t operand = step.constant ? *step.constant : step.operand->number(frame);
    value = compute(frame.run, where, step.what, value, operand);
  }
  return value;
}

void NumberPlan::check(Frame& frame, std::int64_t value) const {
  Compared* kept = frame.run.compared();
  if (low != nullptr) {
    std::int64_t least = low->number(frame), most = high->number(frame);
    if (value < least || value > most) {
      if (kept != nullptr) kept->numbers.push_back({value, value < least ? least : most});
      frame.run.fail(where, fmt::format("expected {} to {}, found {}", least, most, value));
    }
  }
  for (const NodePtr& one : allowed) {
    if (one->number(frame) == value) return;
  }
  if (allowed.empty()) return;
  std::string wanted;
  for (const NodePtr& one : allowed) {
    std::int64_t other = one->number(frame);
    if (kept != nullptr) kept->numbers.push_back({value, other});
    wanted += fmt::format("{}{}", wanted.empty() ? "" : " or ", other);
  }
  frame.run.fail(where, fmt::format("expected {}, found {}", wanted, value));
}

Value NumberPlan::read(Frame& frame, Reader& reader) const {
  std::int64_t value = 0;
  std::uint64_t begin = reader.at;
  if (form == Form::fixed) {
    value = raw(take(frame.run, reader, bytes, where), frame.run.big);
  } else if (form == Form::digits) {
    value = read_digits(frame, reader, *this);
  } else {
    value = read_groups(frame.run, reader, *this);
  }
  if (!steps.empty()) value = computed(frame, value);
  Run& run = frame.run;
  if (auto first = run.recorded(reader.region))
    run.recorder->numbers.push_back(
        {this, *first + begin, static_cast<unsigned>(reader.at - begin), big.value_or(run.big), value});
  if (checks) check(frame, value);
  return Value::of(value);
}

}  // namespace operculum::layout
