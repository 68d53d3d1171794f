// Lists that links and children make: chains and trees.
#include <fmt/format.h>

#include <unordered_set>
#include <utility>

#include "base/error.h"
#include "layout/plan/nodes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

/// What tells two elements apart: the number, or where the record lies.
std::uint64_t identity(Run& run, const Value& value) {
  if (value.kind == Value::Kind::number) return static_cast<std::uint64_t>(value.a);
  if (value.kind == Value::Kind::instance || value.kind == Value::Kind::item ||
      value.kind == Value::Kind::placed) {
    Run::Where where = run.where(value);
    return where.offset * 1024 + where.region;
  }
  return (std::uint64_t{value.object} << 32) ^ static_cast<std::uint64_t>(value.a);
}

class ChainNode final : public Node {
 public:
  ChainNode(Span where, StaticType type, NodePtr from, NodePtr condition, NodePtr next, std::size_t slot)
      : Node(where, type),
        from_(std::move(from)),
        condition_(std::move(condition)),
        next_(std::move(next)),
        slot_(slot) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    List list;
    std::unordered_set<std::uint64_t> seen;
    Value at = from_->value(frame);
    while (at.there()) {
      run.step(where());
      frame.slots[slot_] = at;
      if (!condition_->truth(frame)) break;
      if (!seen.insert(identity(run, at)).second)
        fail(run, fmt::format("this chain comes back to where it was after {} links", list.values.size()));
      run.check_room(list.values.size());
      list.values.push_back(at);
      at = next_->value(frame);
    }
    return run.store().add(std::move(list));
  }

 private:
  NodePtr from_, condition_, next_;
  std::size_t slot_;
};

class TreeNode final : public Node {
 public:
  TreeNode(Span where, StaticType type, NodePtr roots, NodePtr children, std::size_t slot)
      : Node(where, type), roots_(std::move(roots)), children_(std::move(children)), slot_(slot) {}

  Value value(Frame& frame) const override {
    Run& run = frame.run;
    List tree;
    std::unordered_set<std::uint64_t> seen;
    struct Open {
      Value list;
      std::uint64_t next;
      std::int64_t parent;
      std::int64_t children = 0;  // that were listed
    };
    std::vector<Open> open = {{roots_->value(frame), 0, -1}};
    while (!open.empty()) {
      Open& top = open.back();
      if (!top.list.there() || top.next == run.count(top.list)) {
        open.pop_back();
        continue;
      }
      run.step(where());
      if (open.size() > kMostLevels) fail(run, "this tree is more than 10,000 levels deep");
      Value element = run.element(top.list, top.next++);
      std::int64_t parent = top.parent;
      if (!element.there()) continue;
      if (!seen.insert(identity(run, element)).second)
        fail(run, "this tree goes round in a circle: an element is beneath itself, or in two places");
      run.check_room(tree.values.size());
      tree.values.push_back(element);
      tree.parents.push_back(parent);
      tree.siblings.push_back(top.children++);
      auto own = static_cast<std::int64_t>(tree.values.size() - 1);
      frame.slots[slot_] = element;
      open.push_back({children_->value(frame), 0, own});
    }
    return run.store().add(std::move(tree));
  }

 private:
  static constexpr std::size_t kMostLevels = 10'000;
  NodePtr roots_, children_;
  std::size_t slot_;
};

}  // namespace

NodePtr chain_node(Span where, StaticType type, NodePtr from, NodePtr condition, NodePtr next,
                   std::size_t slot) {
  return std::make_unique<ChainNode>(where, type, std::move(from), std::move(condition), std::move(next),
                                     slot);
}
NodePtr tree_node(Span where, StaticType type, NodePtr roots, NodePtr children, std::size_t slot) {
  return std::make_unique<TreeNode>(where, type, std::move(roots), std::move(children), slot);
}

}  // namespace operculum::layout
