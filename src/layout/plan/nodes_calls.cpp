// Calls: the description's own functions, the language's, and those that look outside the container.
#include <fmt/format.h>

#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "layout/plan/nodes.h"
#include "layout/run/entered.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

class FunctionNode final : public Node {
 public:
  FunctionNode(Span where, const FunctionPlan& function, std::vector<NodePtr> arguments)
      : Node(where, function.result), function_(function), arguments_(std::move(arguments)) {}
  Value value(Frame& frame) const override {
    Prepared prepared(frame, *this);
    return function_.body->value(prepared.frame);
  }
  std::int64_t number(Frame& frame) const override {
    Prepared prepared(frame, *this);
    return function_.body->number(prepared.frame);
  }
  void text(Frame& frame, std::string& out) const override {
    Prepared prepared(frame, *this);
    function_.body->text(prepared.frame, out);
    if (out.size() > kMostText) fail(frame.run, "this makes a text of more than 1 MiB");
  }

 private:
  static constexpr std::size_t kMostText = 1 << 20;
  struct Prepared {
    Prepared(Frame& caller, const FunctionNode& node)
        : deeper(caller.run, node.where()),
          slots(node.function_.slots),
          frame{caller.run, slots.data(), caller.reader},
          entered(caller.run, node.function_.name) {
      caller.run.step(node.where());
      for (std::size_t i = 0; i < node.arguments_.size(); ++i) slots[i] = node.arguments_[i]->value(caller);
    }
    Run::Deeper deeper;
    std::vector<Value> slots;
    Frame frame;
    Entered entered;
  };
  const FunctionPlan& function_;
  std::vector<NodePtr> arguments_;
};

class BuiltInNode final : public Node {
 public:
  BuiltInNode(Span where, StaticType type, BuiltIn call, std::vector<NodePtr> arguments)
      : Node(where, type), call_(call), arguments_(std::move(arguments)) {}
  Value value(Frame& frame) const override { return call_(frame, *this, arguments_); }

  void write_back(WriteBack& back) const override {
    for (const NodePtr& argument : arguments_) argument->write_back(back);
    if (type().is(Base::time)) return;  // each has a way back
    back.stop("goes through a function without a way back");
  }

 private:
  BuiltIn call_;
  std::vector<NodePtr> arguments_;
};

class KnownNode final : public Node {
 public:
  KnownNode(Span where, std::string hash, NodePtr value, bool lower)
      : Node(where, {Base::text}), hash_(std::move(hash)), value_(std::move(value)), lower_(lower) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    auto [at, fresh] = run.names_by_hash.try_emplace(hash_ + (lower_ ? "/lower" : ""));
    if (fresh) {
      const NameHash& hash = *find_name_hash(hash_);
      for (const std::string& name : run.plan().known_names)
        at->second[hash.of(lower_ ? to_lower(name) : name)] = name;
      for (const std::string& name : run.context().known_names)
        at->second[hash.of(lower_ ? to_lower(name) : name)] = name;
    }
    auto found = at->second.find(static_cast<std::uint64_t>(value_->number(frame)));
    return found == at->second.end() ? Value{} : run.keep(found->second);
  }

  void write_back(WriteBack& back) const override { value_->write_back(back); }  // the hash of the new name

 private:
  std::string hash_;
  NodePtr value_;
  bool lower_;
};

class KeyNode final : public Node {
 public:
  KeyNode(Span where, NodePtr name, NodePtr condition, std::size_t slot)
      : Node(where, {Base::key}), name_(std::move(name)), condition_(std::move(condition)), slot_(slot) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    std::string name = name_->text_of(frame);
    if (run.plan().stranger && !run.context().may_have_key(run.plan().description.name, name))
      throw NeedsKey(
          fmt::format("the description {} asks for the key \"{}\", and it is none of yours or the program's; "
                      "--give-keys lets it have "
                      "keys",
                      escape(run.plan().description.name), escape(name)));
    auto fits = [&](const std::string& secret) {
      frame.slots[slot_] = region_of(run, secret);
      return condition_->truth(frame) ? KeyRing::Fit::yes : KeyRing::Fit::no;
    };
    Key key = run.context().keys.find_named(name, run.input().name, fits);
    return region_of(run, key.secret);  // as it is: hexadecimal keys were decoded when keys.toml was read
  }

 private:
  static Value region_of(Run& run, const std::string& secret) {
    std::uint64_t length = secret.size();
    return Value::bytes(
        run.store().add_region(make_memory_source(Bytes(secret.begin(), secret.end())), "key", std::nullopt),
        0, length);
  }
  NodePtr name_, condition_;
  std::size_t slot_;
};

/// Where a record begins or ends, in its region.
std::uint64_t record_place(Run& run, const Value& record, const RecordPlan& plan, bool end) {
  std::uint64_t at = run.where(record).offset;
  if (!end) return at;
  if (record.kind == Value::Kind::instance) return run.store().instances[record.object].end;
  if (plan.fixed) return at + *plan.fixed;
  Reader reader{run.where(record).region, 0, at, run.region(run.where(record).region).size(), at};
  std::vector<Value> slots(plan.slots);
  const List& list = run.store().lists[record.object];
  std::copy(list.arguments.begin(), list.arguments.end(), slots.begin());
  Frame own{run, slots.data(), &reader};
  RecordRead::run_actions(plan, own, reader);
  return reader.at;
}

/// Of a record, or of a list: where its first element begins, or its last one ends.
class WhereNode final : public Node {
 public:
  WhereNode(Span where, NodePtr what, bool end)
      : Node(where, {Base::number}), what_(std::move(what)), end_(end) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    Value what = what_->value(frame);
    if (!what.there()) fail(run, "the place of what is not there");
    std::uint64_t at = what_->type().is_list() ? place_of_list(run, what)
                                               : record_place(run, what, *what_->type().record, end_);
    return Value::of(static_cast<std::int64_t>(at));
  }

 private:
  std::uint64_t place_of_list(Run& run, const Value& list) const {
    const List& all = run.store().lists[list.object];
    if (all.shape == List::Shape::strided) return all.offset + (end_ ? all.count * all.stride : 0);
    if (all.element != nullptr) return end_ ? all.end : all.begin;
    if (all.size() == 0) fail(run, "the place of a list without elements");
    StaticType element = what_->type().element();
    if (!element.is(Base::record)) fail(run, "the place of a list that was not read and holds no records");
    return record_place(run, run.element(list, end_ ? all.size() - 1 : 0), *element.record, end_);
  }

  NodePtr what_;
  bool end_;
};

}  // namespace

NodePtr function_node(Span where, const FunctionPlan& function, std::vector<NodePtr> arguments) {
  return std::make_unique<FunctionNode>(where, function, std::move(arguments));
}
NodePtr built_in_node(Span where, StaticType type, BuiltIn call, std::vector<NodePtr> arguments) {
  return std::make_unique<BuiltInNode>(where, type, call, std::move(arguments));
}
NodePtr known_node(Span where, std::string hash, NodePtr value, bool lower) {
  return std::make_unique<KnownNode>(where, std::move(hash), std::move(value), lower);
}
NodePtr key_node(Span where, NodePtr name, NodePtr condition, std::size_t slot) {
  return std::make_unique<KeyNode>(where, std::move(name), std::move(condition), slot);
}
NodePtr where_node(Span where, NodePtr record, bool end) {
  return std::make_unique<WhereNode>(where, std::move(record), end);
}

}  // namespace operculum::layout
