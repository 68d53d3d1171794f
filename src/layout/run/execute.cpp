#include "layout/run/execute.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "base/time.h"
#include "layout/plan/value_text.h"
#include "layout/run/entered.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kBlock = 64 * 1024;

/// Puts the line in front of what is thrown without one.
template <typename Work>
void with_line(Run& run, const Span& where, const Work& work) {
  const std::string& name = run.plan().description.name;
  auto lined = [&](const Error& error) {
    std::string text = error.what();
    return text.starts_with(escape(name))
               ? text
               : fmt::format("{}: {}", run.plan().description.line_of(where.at), text);
  };
  try {
    work();
  } catch (const CutShort& error) {
    throw CutShort(lined(error));
  } catch (const Malformed& error) {
    throw Malformed(lined(error));
  }
}

std::string fact_text(Frame& frame, const Node& node) {
  Value value = node.value(frame);
  if (!value.there()) return "";
  if (value.kind == Value::Kind::text) return frame.run.text(value);
  if (value.kind == Value::Kind::time)
    return to_text(
        {value.a, static_cast<std::uint32_t>(value.b & 0xffffffff), (value.b & Value::kFloating) != 0});
  return std::to_string(value.a);
}

void one(Run& run, const StatementPlan& statement, Head& head) {
  std::vector<Value> slots(statement.slots);
  Frame frame{run, slots.data()};
  switch (statement.kind) {
    case StatementPlan::Kind::binding: {
      bool record = statement.value->type().is(StaticType::Base::record);
      run.cover = record ? Cover::header : Cover::index;
      {
        Entered entered(run, statement.name);
        run.globals[statement.global] = statement.value->value(frame);
      }
      const StaticType& type = statement.value->type();
      bool plain = type.numeric() || type.is(StaticType::Base::text) || type.is(StaticType::Base::time);
      if (run.observer != nullptr && plain)
        run.observer->computed(statement.name, value_text(run, run.globals[statement.global]));
      run.cover = Cover::index;
      return;
    }
    case StatementPlan::Kind::require:
      if (!statement.value->truth(frame))
        run.fail(statement.where, statement.message.empty()
                                      ? "a condition that the format requires does not hold"
                                      : statement.message);
      return;
    case StatementPlan::Kind::expect:
      return run.expect(*statement.value, frame, statement.where, statement.message);
    case StatementPlan::Kind::fact:
      if (std::string text = fact_text(frame, *statement.value); !text.empty())
        head.facts.emplace_back(statement.name, std::move(text));
      return;
    case StatementPlan::Kind::order: {
      bool holds = statement.value == nullptr || statement.value->truth(frame);
      if (holds) {
        run.big = statement.big;
      } else if (statement.other_order) {
        run.big = !statement.big;
      }
      return;
    }
    default:
      return;  // entries, checks and regions come later
  }
}

}  // namespace

Head execute(Run& run) {
  Head head;
  for (const StatementPlan& statement : run.plan().statements)
    with_line(run, statement.where, [&] { one(run, statement, head); });
  for (const Blob& blob : run.store().blobs) {
    if (!blob.missing.empty())
      head.missing.push_back(blob.missing + ", and is not there; what lies in it cannot be had");
  }
  return head;
}

ExpectedSum expected_sum(const CheckPlan& check, Frame& frame) {
  const SumKind& kind = *find_sum(check.algorithm);
  if (!kind.number) return {&check, check.expected->bytes(frame)};
  auto number = static_cast<std::uint64_t>(check.expected->number(frame));
  Bytes value(kind.bytes);
  for (std::size_t i = 0; i < value.size(); ++i)
    value[value.size() - 1 - i] = static_cast<Byte>(number >> (8 * i));
  return {&check, std::move(value)};
}

std::string compare(const ExpectedSum& expected, ByteView computed) {
  if (as_text(expected.value) == as_text(computed)) return "";
  return fmt::format("{} differs (stored {}, computed {})", expected.check->algorithm, to_hex(expected.value),
                     to_hex(computed));
}

Bytes computed_sum(const CheckPlan& check, const RecipePtr& bytes) {
  auto sum = find_sum(check.algorithm)->make(check.parameters);
  StreamPtr stream = open_recipe(bytes, std::nullopt);
  Bytes block(kBlock);
  while (std::size_t count = stream->read(block)) sum->add(ByteView(block).first(count));
  return sum->finish();
}

std::string compare(const ExpectedSum& expected, const RecipePtr& bytes) {
  return compare(expected, computed_sum(*expected.check, bytes));
}

namespace {

/// What a statement states of a part of the container, and what that part gives.
DifferingCheck looked_up(Run& run, const StatementPlan& statement) {
  std::vector<Value> slots(statement.slots);
  Frame frame{run, slots.data()};
  ExpectedSum expected = expected_sum(statement.check, frame);
  Bytes computed = computed_sum(statement.check, run.recipe_of(statement.check.what->value(frame)));
  return {std::move(expected), std::move(computed)};
}

}  // namespace

std::vector<DifferingCheck> differing_checks(Run& run) {
  std::vector<DifferingCheck> out;
  for (const StatementPlan& statement : run.plan().statements) {
    if (statement.kind != StatementPlan::Kind::check) continue;
    try {
      DifferingCheck one = looked_up(run, statement);
      if (one.expected.value != one.computed) out.push_back(std::move(one));
    } catch (const Malformed&) {
      continue;
    }
  }
  return out;
}

std::vector<std::string> compare_checks(Run& run) {
  std::vector<std::string> faults;
  for (const StatementPlan& statement : run.plan().statements) {
    if (statement.kind != StatementPlan::Kind::check) continue;
    try {
      DifferingCheck one = looked_up(run, statement);
      std::string fault = compare(one.expected, one.computed);
      if (!fault.empty())
        faults.push_back(fmt::format("{}: {}; the header or the index is damaged",
                                     run.plan().description.line_of(statement.where.at), fault));
    } catch (const LimitExceeded&) {
      throw;
    } catch (const Error& error) {
      faults.push_back(error.what());
    }
  }
  return faults;
}

std::vector<std::string> mark_regions(Run& run) {
  std::vector<std::string> nothing;
  for (const StatementPlan& statement : run.plan().statements) {
    if (statement.kind != StatementPlan::Kind::region) continue;
    std::vector<Value> slots(statement.slots);
    Frame frame{run, slots.data()};
    Value value = statement.value->value(frame);
    run.mark_made(value, Cover::header);
    if (!run.has_place(value)) nothing.push_back(statement.name);
  }
  return nothing;
}

}  // namespace operculum::layout
