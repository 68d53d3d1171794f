#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "layout/plan/compiler.h"
#include "layout/plan/value_text.h"
#include "layout/run/entered.h"
#include "layout/run/read_bytes.h"
#include "layout/text/words.h"

namespace operculum::layout {
namespace {

using syntax::Field;
using Base = StaticType::Base;

// ---- what a record does while it is read

class ReadAction final : public Action {
 public:
  /// `at_once`: a text is decoded now, for another way of the record reads the same field otherwise.
  ReadAction(Span span, std::string name, std::size_t slot, const ReadPlan& plan, const TextPlan* at_once)
      : Action(span), name_(std::move(name)), slot_(slot), plan_(plan), at_once_(at_once) {}
  void run(Frame& frame, Reader& reader) const override {
    frame.slots[slot_] = frame.run.observer == nullptr ? plan_.read(frame, reader) : observed(frame, reader);
    if (at_once_ == nullptr) return;
    std::string text;
    at_once_->decode(frame.run, frame.slots[slot_], text);
    frame.slots[slot_] = frame.run.keep(std::move(text));
  }

 private:
  Value observed(Frame& frame, Reader& reader) const {
    Run& run = frame.run;
    bool told = plan_.type.is_list() || plan_.type.base == Base::record ||
                dynamic_cast<const PlacedRead*>(&plan_) != nullptr;
    std::uint64_t begin = reader.at;
    Value value;
    {
      Entered entered(run, name_);
      try {
        value = plan_.read(frame, reader);
      } catch (const Error& error) {
        run.observer->failed("", run.region(reader.region), begin, error.what());
        throw;
      }
    }
    if (told) return value;  // its parts are
    std::uint64_t size = reader.at - std::min(begin, reader.at);
    run.observer->field(name_, run.region(reader.region), begin, size, value_text(run, value, plan_));
    if (size > 0) run.mark(reader.region, begin, size, run.cover);
    return value;
  }

  std::string name_;
  std::size_t slot_;
  const ReadPlan& plan_;
  const TextPlan* at_once_;
};

class LetAction final : public Action {
 public:
  LetAction(Span span, std::string name, std::size_t slot, NodePtr value)
      : Action(span), name_(std::move(name)), slot_(slot), value_(std::move(value)) {}
  /// What cannot be had costs only those who use it.
  void run(Frame& frame, Reader&) const override {
    try {
      frame.slots[slot_] = value_->value(frame);
    } catch (const LimitExceeded&) {
      throw;
    } catch (const TooDeep&) {
      throw;
    } catch (const Error&) {
      frame.slots[slot_] = frame.run.keep(std::current_exception());
    }
    if (frame.run.observer != nullptr)
      frame.run.observer->computed(name_, value_text(frame.run, frame.slots[slot_]));
  }

 private:
  std::string name_;
  std::size_t slot_;
  NodePtr value_;
};

enum class Move { skip, align, seek };

class MoveAction final : public Action {
 public:
  MoveAction(Span span, Move what, NodePtr value) : Action(span), what_(what), value_(std::move(value)) {}
  void run(Frame& frame, Reader& reader) const override {
    std::uint64_t number = value_->size(frame, what_ == Move::seek ? "an offset" : "a distance");
    if (what_ == Move::seek) {
      if (number > reader.limit - std::min(reader.base, reader.limit))
        value_->fail(frame.run, fmt::format("offset {} lies outside the {} bytes that can be read", number,
                                            reader.limit - reader.base));
      reader.at = reader.base + number;
      return;
    }
    if (what_ == Move::align) {
      if (number == 0) value_->fail(frame.run, "align to a multiple of 0");
      std::uint64_t over = (reader.at - reader.base) % number;
      number = over == 0 ? 0 : number - over;
      number =
          std::min(number, reader.limit -
                               std::min(reader.at, reader.limit));  // at the end the padding may be left out
    }
    std::uint64_t begin = reader.at;
    if (number > reader.limit - std::min(reader.at, reader.limit))
      take(frame.run, reader, number, where);  // throws
    reader.at += number;
    frame.run.mark(reader.region, begin, number, Cover::padding);
  }

 private:
  Move what_;
  NodePtr value_;
};

class RequireAction final : public Action {
 public:
  RequireAction(Span span, NodePtr condition, std::string message)
      : Action(span), condition_(std::move(condition)), message_(std::move(message)) {}
  void run(Frame& frame, Reader&) const override {
    if (condition_->truth(frame)) return;
    frame.run.fail(where, message_.empty() ? "a condition that the format requires does not hold" : message_);
  }

 private:
  NodePtr condition_;
  std::string message_;
};

class ExpectAction final : public Action {
 public:
  ExpectAction(Span span, NodePtr condition, std::string message)
      : Action(span), condition_(std::move(condition)), message_(std::move(message)) {}
  void run(Frame& frame, Reader&) const override { frame.run.expect(*condition_, frame, where, message_); }

 private:
  NodePtr condition_;
  std::string message_;
};

using Actions = std::vector<std::unique_ptr<const Action>>;

class WhenAction final : public Action {
 public:
  WhenAction(Span span, NodePtr condition, Actions then, Actions otherwise)
      : Action(span),
        condition_(std::move(condition)),
        then_(std::move(then)),
        otherwise_(std::move(otherwise)) {}
  void run(Frame& frame, Reader& reader) const override {
    for (const auto& action : condition_->truth(frame) ? then_ : otherwise_) action->run(frame, reader);
  }

 private:
  NodePtr condition_;
  Actions then_, otherwise_;
};

class WithinAction final : public Action {
 public:
  WithinAction(Span span, NodePtr size, Actions actions)
      : Action(span), size_(std::move(size)), actions_(std::move(actions)) {}
  void run(Frame& frame, Reader& reader) const override {
    std::uint64_t size = size_->size(frame, "a size");
    if (size > reader.limit - std::min(reader.at, reader.limit))
      take(frame.run, reader, size, where);  // throws
    std::uint64_t outer = reader.limit, end = reader.at + size;
    if (auto base = frame.run.recorded(reader.region))
      frame.run.recorder->withins.push_back({*base + reader.at, size, frame.run.recorder->numbers.size()});
    reader.limit = end;
    for (const auto& action : actions_) action->run(frame, reader);
    reader.limit = outer;
    reader.at = end;
  }

 private:
  NodePtr size_;
  Actions actions_;
};

class OrderAction final : public Action {
 public:
  OrderAction(Span span, bool big, NodePtr condition)
      : Action(span), big_(big), condition_(std::move(condition)) {}
  void run(Frame& frame, Reader&) const override {
    if (condition_ == nullptr || condition_->truth(frame)) frame.run.big = big_;
  }

 private:
  bool big_;
  NodePtr condition_;
};

}  // namespace

/// Compiles the fields of one record.
class RecordCompiler {
 public:
  RecordCompiler(Compiler& compiler, RecordPlan& plan, Scope& scope)
      : compiler_(compiler), plan_(plan), scope_(scope) {}

  Actions fields(const std::vector<Field>& from) {
    Actions actions;
    for (const Field& field : from) {
      try {
        one(field, actions);
      } catch (const ProblemFound& found) {
        compiler_.note(found);
        at_.reset();
      }
    }
    return actions;
  }
  std::optional<std::uint64_t> size() const { return at_; }
  bool plain() const { return plain_; }

 private:
  void one(const Field& field, Actions& actions) {
    switch (field.kind) {
      case Field::Kind::read:
        return read(field, actions);
      case Field::Kind::let: {
        NodePtr value = compiler_.expression(*field.value, scope_);
        StaticType type = value->type();
        bool small = type.numeric() || type.is(Base::time);
        if (!small) plan_.leaf = false;
        std::size_t slot = declare(field.name, type, nullptr, field.where).slot;
        actions.push_back(std::make_unique<LetAction>(field.where, field.name, slot, std::move(value)));
        return;
      }
      case Field::Kind::skip: {
        NodePtr count = compiler_.number(*field.value, scope_);
        auto constant = count->constant();
        advance(constant ? std::optional<std::uint64_t>(static_cast<std::uint64_t>(*constant))
                         : std::nullopt);
        actions.push_back(std::make_unique<MoveAction>(field.where, Move::skip, std::move(count)));
        return;
      }
      case Field::Kind::align:
      case Field::Kind::seek:
        at_.reset();
        actions.push_back(std::make_unique<MoveAction>(
            field.where, field.kind == Field::Kind::align ? Move::align : Move::seek,
            compiler_.number(*field.value, scope_)));
        return;
      case Field::Kind::require:
        plan_.checks = true;
        actions.push_back(std::make_unique<RequireAction>(
            field.where, compiler_.condition(*field.value, scope_), field.message));
        return;
      case Field::Kind::expect:
        plan_.checks = true;
        actions.push_back(std::make_unique<ExpectAction>(
            field.where, compiler_.condition(*field.value, scope_), field.message));
        return;
      case Field::Kind::when: {
        NodePtr condition = compiler_.condition(*field.value, scope_);
        at_.reset();
        Actions then = fields(field.fields), otherwise = fields(field.otherwise);
        at_.reset();
        actions.push_back(std::make_unique<WhenAction>(field.where, std::move(condition), std::move(then),
                                                       std::move(otherwise)));
        return;
      }
      case Field::Kind::within: {
        NodePtr size = compiler_.number(*field.value, scope_);
        Actions inner = fields(field.fields);
        at_.reset();
        actions.push_back(std::make_unique<WithinAction>(field.where, std::move(size), std::move(inner)));
        return;
      }
      case Field::Kind::order:
        at_.reset();
        actions.push_back(std::make_unique<OrderAction>(
            field.where, field.big, field.value ? compiler_.condition(*field.value, scope_) : nullptr));
        return;
    }
  }

  void read(const Field& field, Actions& actions) {
    ReadPlanPtr made = compiler_.read(*field.type, scope_);
    const ReadPlan* plan = made.get();
    bool placed = field.type->at != nullptr;
    plan_.reads.push_back(std::move(made));
    plan_.checks |= plan->checks;
    plan_.leaf &= plan->leaf;
    auto* text =
        dynamic_cast<const TextPlan*>(placed ? static_cast<const PlacedRead*>(plan)->inner.get() : plan);
    bool shared = plan_.find(field.name) != nullptr;
    FieldPlan& declared = declare(field.name, plan->type, text, field.where);
    std::size_t slot = declared.slot;
    const TextPlan* at_once = shared ? text : nullptr;
    if (at_once != nullptr) plan_.leaf = false;
    actions.push_back(std::make_unique<ReadAction>(field.where, field.name, slot, *plan, at_once));
    plain_ &= plan->direct && !placed && !shared;
    if (placed) return;
    if (!shared) {
      declared.read = plan;
      declared.offset = at_;
    }
    advance(plan->fixed);
    bits(field, slot, plan->type, actions);
  }

  /// The named bits of a number become fields of their own.
  void bits(const Field& field, std::size_t number, const StaticType& type, Actions& actions) {
    std::int64_t shift = 0;
    for (const auto& [name, width] : field.type->bits) {
      NodePtr wide = compiler_.number(*width, scope_);
      auto count = wide->constant();
      auto most = std::int64_t{static_cast<const NumberPlan*>(plan_.reads.back().get())->bytes} * 8;
      if (!count || *count < 1 || shift + *count > most)
        Compiler::fail(width->where, fmt::format("{} bits from bit {} do not fit", count.value_or(0), shift),
                       "bits are counted from the lowest; their widths are constant");
      NodePtr whole = slot_node(width->where, type, number, nullptr);
      NodePtr shifted =
          arithmetic_node(width->where, '>', std::move(whole), number_node(width->where, shift));
      auto mask =
          static_cast<std::int64_t>(*count == 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << *count) - 1);
      NodePtr value = arithmetic_node(width->where, '&', std::move(shifted), number_node(width->where, mask));
      std::size_t slot = declare(name, {Base::number}, nullptr, width->where).slot;
      actions.push_back(std::make_unique<LetAction>(width->where, name, slot, std::move(value)));
      shift += *count;
    }
  }

  /// The field of that name; the ways of a "when" may share one, which then keeps its slot.
  FieldPlan& declare(const std::string& name, StaticType type, const TextPlan* raw, const Span& where) {
    if (contains(field_words(), name))
      Compiler::fail(where, fmt::format("\"{}\" is a word of the language", name));
    for (FieldPlan& before : plan_.fields) {
      if (before.name != name) continue;
      if (before.type != type)
        Compiler::fail(where,
                       fmt::format("\"{}\" is {} above and {} here", name, before.type.name(), type.name()));
      before.offset.reset();
      return before;
    }
    std::size_t slot = scope_.take();
    plan_.fields.push_back({name, slot, type, raw, std::nullopt});
    scope_.variables.push_back({name, type, slot, raw});
    return plan_.fields.back();
  }

  void advance(std::optional<std::uint64_t> bytes) {
    if (!bytes) {
      at_.reset();
    } else if (at_) {
      *at_ += *bytes;
    }
  }

  Compiler& compiler_;
  RecordPlan& plan_;
  Scope& scope_;
  std::optional<std::uint64_t> at_ = 0;
  bool plain_ = true;
};

const RecordPlan& Compiler::record(const std::string& name, const Span& where) {
  auto known = records_.find(name);
  if (known != records_.end()) return *known->second;
  auto syntax = record_syntax_.find(name);
  if (syntax == record_syntax_.end()) {
    std::vector<std::string_view> names;
    for (const auto& [other, record] : record_syntax_) names.push_back(other);
    std::string_view meant = nearest(name, names);
    fail(where, fmt::format("there is no record \"{}\"", name),
         meant.empty() ? "" : fmt::format("did you mean {}?", meant));
  }
  const syntax::Record& from = *syntax->second;
  plan_.records.push_back(std::make_unique<RecordPlan>());
  RecordPlan& plan = *plan_.records.back();
  plan.name = name;
  plan.where = from.where;
  records_[name] = &plan;
  plan.parameters = from.parameters.size();
  Scope scope;
  scope.in_record = true;
  std::vector<StaticType> types;
  parameters(from.parameters, scope, types);
  RecordCompiler compiler(*this, plan, scope);
  plan.actions = compiler.fields(from.fields);
  plan.slots = scope.most;
  plan.fixed = compiler.size();
  plan.plain = compiler.plain() && plan.leaf && plan.fixed && *plan.fixed > 0 && plan.parameters == 0;
  plan.complete = true;
  return plan;
}

}  // namespace operculum::layout
