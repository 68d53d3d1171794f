// Arithmetic, comparisons, choices, and texts put together.
#include <fmt/format.h>

#include "layout/plan/arithmetic.h"
#include "layout/plan/nodes.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

class ArithmeticNode final : public Node {
 public:
  ArithmeticNode(Span where, char what, NodePtr a, NodePtr b)
      : Node(where, {Base::number}), what_(what), a_(std::move(a)), b_(std::move(b)) {}
  Value value(Frame& frame) const override { return Value::of(number(frame)); }
  std::int64_t number(Frame& frame) const override {
    return compute(frame.run, where(), what_, a_->number(frame), b_->number(frame));
  }
  std::optional<std::int64_t> constant() const override {
    auto a = a_->constant(), b = b_->constant();
    std::int64_t result = 0;
    if (!a || !b) return std::nullopt;
    bool fits = what_ == '+'   ? !__builtin_add_overflow(*a, *b, &result)
                : what_ == '-' ? !__builtin_sub_overflow(*a, *b, &result)
                               : what_ == '*' && !__builtin_mul_overflow(*a, *b, &result);
    return fits ? std::optional(result) : std::nullopt;
  }
  void write_back(WriteBack& back) const override {
    bool invertible =
        (what_ == '+' || what_ == '-' || what_ == '*' || what_ == 'x') && (a_->constant() || b_->constant());
    if (!invertible) back.stop("is worked out of several numbers, or by an operation without a way back");
    a_->write_back(back);
    b_->write_back(back);
  }
  char what() const { return what_; }
  const Node& a() const { return *a_; }
  const Node& b() const { return *b_; }

 private:
  char what_;
  NodePtr a_, b_;
};

class PositionNode final : public Node {
 public:
  PositionNode(Span where, Position what) : Node(where, {Base::number}), what_(what) {}
  Value value(Frame& frame) const override {
    if (what_ == Position::end || frame.reader == nullptr) {
      std::uint64_t size = frame.run.region(frame.reader != nullptr ? frame.reader->region : 0).size();
      return Value::of(static_cast<std::int64_t>(size - (frame.reader != nullptr ? frame.reader->base : 0)));
    }
    const Reader& reader = *frame.reader;
    std::uint64_t found = what_ == Position::here    ? reader.at - reader.base
                          : what_ == Position::start ? reader.start - reader.base
                                                     : reader.limit - std::min(reader.at, reader.limit);
    return Value::of(static_cast<std::int64_t>(found));
  }
  Position what() const { return what_; }

 private:
  Position what_;
};

class NotNode final : public Node {
 public:
  NotNode(Span where, NodePtr a) : Node(where, {Base::truth}), a_(std::move(a)) {}
  Value value(Frame& frame) const override { return Value::truth(!a_->truth(frame)); }

 private:
  NodePtr a_;
};

class LogicNode final : public Node {
 public:
  LogicNode(Span where, Logic logic, NodePtr a, NodePtr b)
      : Node(where, {Base::truth}), both_(logic == Logic::both), a_(std::move(a)), b_(std::move(b)) {}
  Value value(Frame& frame) const override {
    return Value::truth(both_ ? a_->truth(frame) && b_->truth(frame) : a_->truth(frame) || b_->truth(frame));
  }

 private:
  bool both_;
  NodePtr a_, b_;
};

bool holds(Comparison how, int order) {
  switch (how) {
    case Comparison::equal:
      return order == 0;
    case Comparison::unequal:
      return order != 0;
    case Comparison::less:
      return order < 0;
    case Comparison::greater:
      return order > 0;
    case Comparison::less_or_equal:
      return order <= 0;
    default:
      return order >= 0;
  }
}

bool same_kind_as_bytes(const Node& node) {
  return node.type().is(Base::text) || node.type().is(Base::bytes);
}

int order_of_texts(Frame& frame, std::string_view left, std::string_view right) {
  if (Compared* kept = frame.run.compared()) kept->texts.push_back({std::string(left), std::string(right)});
  return left.compare(right);
}

int order_of_numbers(Frame& frame, std::int64_t left, std::int64_t right) {
  if (Compared* kept = frame.run.compared()) kept->numbers.push_back({left, right});
  return left < right ? -1 : left > right ? 1 : 0;
}

int order_of(Frame& frame, const Node& a, const Node& b) {
  if (a.type().is(Base::text) && b.type().is(Base::text))
    return order_of_texts(frame, a.text_of(frame), b.text_of(frame));
  if (same_kind_as_bytes(a)) {
    Bytes left = a.bytes(frame), right = b.bytes(frame);
    return order_of_texts(frame, as_text(left), as_text(right));
  }
  std::int64_t left = a.number(frame), right = b.number(frame);
  return order_of_numbers(frame, left, right);
}

class CompareNode final : public Node {
 public:
  CompareNode(Span where, Comparison how, NodePtr a, NodePtr b)
      : Node(where, {Base::truth}), how_(how), a_(std::move(a)), b_(std::move(b)) {}
  Value value(Frame& frame) const override { return Value::of(number(frame)); }
  std::int64_t number(Frame& frame) const override { return holds(how_, order_of(frame, *a_, *b_)) ? 1 : 0; }

 private:
  Comparison how_;
  NodePtr a_, b_;
};

class BetweenNode final : public Node {
 public:
  BetweenNode(Span where, NodePtr a, NodePtr low, NodePtr high)
      : Node(where, {Base::truth}), a_(std::move(a)), low_(std::move(low)), high_(std::move(high)) {}
  Value value(Frame& frame) const override {
    std::int64_t a = a_->number(frame);
    bool within = order_of_numbers(frame, a, low_->number(frame)) >= 0 &&
                  order_of_numbers(frame, a, high_->number(frame)) <= 0;
    return Value::truth(within);
  }

 private:
  NodePtr a_, low_, high_;
};

class OneOfNode final : public Node {
 public:
  OneOfNode(Span where, NodePtr a, std::vector<NodePtr> others)
      : Node(where, {Base::truth}), a_(std::move(a)), others_(std::move(others)) {}
  Value value(Frame& frame) const override {
    for (const NodePtr& other : others_) {
      if (order_of(frame, *a_, *other) == 0) return Value::truth(true);
    }
    return Value::truth(false);
  }

 private:
  NodePtr a_;
  std::vector<NodePtr> others_;
};

class ConditionalNode final : public Node {
 public:
  ConditionalNode(Span where, NodePtr condition, NodePtr then, NodePtr otherwise)
      : Node(where, then->type().is(Base::unknown) ? otherwise->type() : then->type()),
        condition_(std::move(condition)),
        then_(std::move(then)),
        otherwise_(std::move(otherwise)) {}
  Value value(Frame& frame) const override { return chosen(frame).value(frame); }
  std::int64_t number(Frame& frame) const override { return chosen(frame).number(frame); }
  void text(Frame& frame, std::string& out) const override { chosen(frame).text(frame, out); }
  void outline(Frame& frame, Outline& out) const override { chosen(frame).outline(frame, out); }

 private:
  const Node& chosen(Frame& frame) const { return condition_->truth(frame) ? *then_ : *otherwise_; }
  NodePtr condition_, then_, otherwise_;
};

class FallbackNode final : public Node {
 public:
  FallbackNode(Span where, NodePtr first, NodePtr second)
      : Node(where, second->type().is(Base::unknown) ? first->type() : second->type()),
        first_(std::move(first)),
        second_(std::move(second)) {}
  Value value(Frame& frame) const override {
    try {
      Value found = first_->value(frame);
      if (found.there()) return found;
    } catch (const CutShort&) {  // it lies outside the data
    }
    return second_->value(frame);
  }

 private:
  NodePtr first_, second_;
};

class ExistsNode final : public Node {
 public:
  ExistsNode(Span where, NodePtr of) : Node(where, {Base::truth}), of_(std::move(of)) {}
  Value value(Frame& frame) const override { return Value::truth(of_->value(frame).there()); }

 private:
  NodePtr of_;
};

class FormNode final : public Node {
 public:
  FormNode(Span where, std::vector<std::string> texts, std::vector<FormPart> parts)
      : Node(where, {Base::text}), texts_(std::move(texts)), parts_(std::move(parts)) {}
  Value value(Frame& frame) const override { return frame.run.keep(text_of(frame)); }
  void text(Frame& frame, std::string& out) const override {
    for (std::size_t i = 0; i < parts_.size(); ++i) {
      out += texts_[i];
      const FormPart& shown = parts_[i];
      if (shown.part->type().is(Base::text)) {
        shown.part->text(frame, out);
        continue;
      }
      std::int64_t number = shown.part->number(frame);
      std::string digits = shown.kind == 'd'   ? fmt::format("{}", number)
                           : shown.kind == 'x' ? fmt::format("{:x}", static_cast<std::uint64_t>(number))
                                               : fmt::format("{:X}", static_cast<std::uint64_t>(number));
      if (digits.size() < shown.width) out.append(shown.width - digits.size(), shown.zeros ? '0' : ' ');
      out += digits;
    }
    out += texts_.back();
  }

  void write_back(WriteBack& back) const override {
    if (parts_.size() > 1) back.stop("is put together of several values");
    for (const FormPart& shown : parts_) shown.part->write_back(back);
  }

 private:
  std::vector<std::string> texts_;
  std::vector<FormPart> parts_;
};

class PipeNode final : public Node {
 public:
  PipeNode(Span where, NodePtr bytes, std::unique_ptr<const ChainPlan> chain)
      : Node(where, {Base::bytes}), bytes_(std::move(bytes)), chain_(std::move(chain)) {}
  Value value(Frame& frame) const override {
    Value inner = bytes_->value(frame);
    if (!inner.there()) return {};
    auto step = chain_->resolve(frame);
    if (!step) return inner;
    Store& store = frame.run.store();
    Blob blob;
    if (inner.kind == Value::Kind::blob && !store.blobs[inner.object].region) {
      blob = store.blobs[inner.object];  // one chain instead of one in another
    } else {
      blob.inner = inner;
    }
    blob.steps.push_back(std::move(*step));
    return store.add(std::move(blob));
  }
  void outline(Frame& frame, Outline& out) const override {
    bytes_->outline(frame, out);
    if (const StepKind* kind = chain_->kind_here(frame)) out.steps.push_back(kind);
  }

  void write_back(WriteBack& back) const override { bytes_->write_back(back); }

 private:
  NodePtr bytes_;
  std::unique_ptr<const ChainPlan> chain_;
};

class ReadNode final : public Node {
 public:
  ReadNode(Span where, ReadPlanPtr plan) : Node(where, plan->type), plan_(std::move(plan)) {
    if (plan_->type.is(Base::text))
      text_ = static_cast<const TextPlan*>(static_cast<const PlacedRead&>(*plan_).inner.get());
  }
  Value value(Frame& frame) const override {
    Value found = read(frame);
    if (text_ == nullptr || found.kind != Value::Kind::bytes) return found;
    std::string out;
    text_->decode(frame.run, found, out);
    return frame.run.keep(std::move(out));
  }
  void text(Frame& frame, std::string& out) const override { text_->decode(frame.run, read(frame), out); }
  const ReadPlan& plan() const { return *plan_; }

 private:
  Value read(Frame& frame) const {
    frame.run.step(where());
    Reader unused;
    return plan_->read(frame, frame.reader != nullptr ? *frame.reader : unused);
  }
  ReadPlanPtr plan_;
  const TextPlan* text_ = nullptr;
};

}  // namespace

NodePtr form_node(Span where, std::vector<std::string> texts, std::vector<FormPart> parts) {
  return std::make_unique<FormNode>(where, std::move(texts), std::move(parts));
}
NodePtr arithmetic_node(Span where, char what, NodePtr a, NodePtr b) {
  return std::make_unique<ArithmeticNode>(where, what, std::move(a), std::move(b));
}
NodePtr not_node(Span where, NodePtr a) {
  return std::make_unique<NotNode>(where, std::move(a));
}
NodePtr logic_node(Span where, Logic logic, NodePtr a, NodePtr b) {
  return std::make_unique<LogicNode>(where, logic, std::move(a), std::move(b));
}
NodePtr compare_node(Span where, Comparison how, NodePtr a, NodePtr b) {
  return std::make_unique<CompareNode>(where, how, std::move(a), std::move(b));
}
NodePtr between_node(Span where, NodePtr a, NodePtr low, NodePtr high) {
  return std::make_unique<BetweenNode>(where, std::move(a), std::move(low), std::move(high));
}
NodePtr one_of_node(Span where, NodePtr a, std::vector<NodePtr> others) {
  return std::make_unique<OneOfNode>(where, std::move(a), std::move(others));
}
NodePtr conditional_node(Span where, NodePtr condition, NodePtr then, NodePtr otherwise) {
  return std::make_unique<ConditionalNode>(where, std::move(condition), std::move(then),
                                           std::move(otherwise));
}
NodePtr fallback_node(Span where, NodePtr first, NodePtr second) {
  return std::make_unique<FallbackNode>(where, std::move(first), std::move(second));
}
NodePtr exists_node(Span where, NodePtr of) {
  return std::make_unique<ExistsNode>(where, std::move(of));
}
NodePtr pipe_node(Span where, NodePtr bytes, std::unique_ptr<const ChainPlan> chain) {
  return std::make_unique<PipeNode>(where, std::move(bytes), std::move(chain));
}
NodePtr read_node(Span where, ReadPlanPtr plan) {
  return std::make_unique<ReadNode>(where, std::move(plan));
}
const ReadPlan* plan_of_read(const Node& node) {
  auto* read = dynamic_cast<const ReadNode*>(&node);
  return read == nullptr ? nullptr : &read->plan();
}
NodePtr position_node(Span where, Position what) {
  return std::make_unique<PositionNode>(where, what);
}
std::optional<std::int64_t> distance_from_end(const Node& node) {
  auto* difference = dynamic_cast<const ArithmeticNode*>(&node);
  if (difference == nullptr || difference->what() != '-') return std::nullopt;
  auto* end = dynamic_cast<const PositionNode*>(&difference->a());
  if (end == nullptr || end->what() != Position::end) return std::nullopt;
  return difference->b().constant();
}

}  // namespace operculum::layout
