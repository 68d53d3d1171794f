// What looks from one element of a loop at others of its list.
#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "layout/plan/nodes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

/// Puts the loop's variable on other elements of its list for a while.
class Moved {
 public:
  Moved(Frame& frame, std::size_t slot)
      : frame_(frame), slot_(slot), element_(frame.slots[slot]), index_(frame.slots[slot + 2]) {}
  ~Moved() {
    frame_.slots[slot_] = element_;
    frame_.slots[slot_ + 2] = index_;
  }
  Moved(const Moved&) = delete;
  Moved& operator=(const Moved&) = delete;
  void to(std::uint64_t index) {
    frame_.slots[slot_] = frame_.run.element(frame_.slots[slot_ + 1], index);
    frame_.slots[slot_ + 2] = Value::of(static_cast<std::int64_t>(index));
  }
  std::uint64_t index() const { return static_cast<std::uint64_t>(index_.a); }
  const Value& list() const { return frame_.slots[slot_ + 1]; }

 private:
  Frame& frame_;
  std::size_t slot_;
  Value element_, index_;
};

class TrailNode final : public Node {
 public:
  TrailNode(Span where, NodePtr part, NodePtr separator, std::size_t slot)
      : Node(where, {Base::text}), part_(std::move(part)), separator_(std::move(separator)), slot_(slot) {}
  Value value(Frame& frame) const override { return frame.run.keep(text_of(frame)); }
  void text(Frame& frame, std::string& out) const override {
    Run& run = frame.run;
    Moved moved(frame, slot_);
    const List& tree = run.store().lists[moved.list().object];
    std::vector<std::uint64_t> way;
    for (auto at = static_cast<std::int64_t>(moved.index()); at >= 0;) {
      run.step(where());
      way.push_back(static_cast<std::uint64_t>(at));
      at = tree.parents.empty() ? -1 : tree.parents[static_cast<std::size_t>(at)];
    }
    std::string separator = separator_->text_of(frame);
    bool first = true;
    for (auto it = way.rbegin(); it != way.rend(); ++it) {
      moved.to(*it);
      std::string name = part_->text_of(frame);
      if (name.empty()) continue;
      if (!std::exchange(first, false)) out += separator;
      out += name;
    }
  }

 private:
  NodePtr part_, separator_;
  std::size_t slot_;
};

class NextNode final : public Node {
 public:
  NextNode(Span where, NodePtr part, NodePtr last, std::size_t slot)
      : Node(where, {Base::number}), part_(std::move(part)), last_(std::move(last)), slot_(slot) {}
  Value value(Frame& frame) const override {
    {
      Moved moved(frame, slot_);
      if (moved.index() + 1 < frame.run.count(moved.list())) {
        moved.to(moved.index() + 1);
        return Value::of(part_->number(frame));
      }
    }
    return last_->value(frame);
  }

 private:
  NodePtr part_, last_;
  std::size_t slot_;
};

class AboveNode final : public Node {
 public:
  AboveNode(Span where, NodePtr part, NodePtr last, std::size_t slot)
      : Node(where, {Base::number}), part_(std::move(part)), last_(std::move(last)), slot_(slot) {}
  Value value(Frame& frame) const override {
    std::int64_t own = part_->number(frame);
    const std::vector<std::int64_t>& all = sorted(frame);
    auto above = std::upper_bound(all.begin(), all.end(), own);
    return above != all.end() ? Value::of(*above) : last_->value(frame);
  }

 private:
  const std::vector<std::int64_t>& sorted(Frame& frame) const {
    Run& run = frame.run;
    Moved moved(frame, slot_);
    auto [at, fresh] = run.sorted.try_emplace({this, moved.list().object});
    if (!fresh) return at->second;
    std::uint64_t count = run.count(moved.list());
    for (std::uint64_t i = 0; i < count; ++i) {
      run.step(where());
      moved.to(i);
      at->second.push_back(part_->number(frame));
    }
    std::sort(at->second.begin(), at->second.end());
    return at->second;
  }

  NodePtr part_, last_;
  std::size_t slot_;
};

/// An expression of the element above, in a tree; not there for a root.
class ParentNode final : public Node {
 public:
  ParentNode(Span where, NodePtr part, std::size_t slot)
      : Node(where, part->type()), part_(std::move(part)), slot_(slot) {}
  Value value(Frame& frame) const override {
    Moved moved(frame, slot_);
    const List& tree = frame.run.store().lists[moved.list().object];
    std::int64_t parent = tree.parents.empty() ? -1 : tree.parents[moved.index()];
    if (parent < 0) return {};
    frame.run.step(where());
    moved.to(static_cast<std::uint64_t>(parent));
    return part_->value(frame);
  }

 private:
  NodePtr part_;
  std::size_t slot_;
};

/// Which of its siblings an element of a tree is; of another list, which of its elements.
class SiblingNode final : public Node {
 public:
  SiblingNode(Span where, std::size_t slot) : Node(where, {Base::number}), slot_(slot) {}
  Value value(Frame& frame) const override {
    const List& tree = frame.run.store().lists[frame.slots[slot_ + 1].object];
    const Value& index = frame.slots[slot_ + 2];
    return tree.siblings.empty() ? index : Value::of(tree.siblings[static_cast<std::size_t>(index.a)]);
  }

 private:
  std::size_t slot_;
};

}  // namespace

NodePtr trail_node(Span where, NodePtr part, NodePtr separator, std::size_t slot) {
  return std::make_unique<TrailNode>(where, std::move(part), std::move(separator), slot);
}
NodePtr next_node(Span where, NodePtr part, NodePtr last, std::size_t slot) {
  return std::make_unique<NextNode>(where, std::move(part), std::move(last), slot);
}
NodePtr above_node(Span where, NodePtr part, NodePtr last, std::size_t slot) {
  return std::make_unique<AboveNode>(where, std::move(part), std::move(last), slot);
}
NodePtr parent_node(Span where, NodePtr part, std::size_t slot) {
  return std::make_unique<ParentNode>(where, std::move(part), slot);
}
NodePtr sibling_node(Span where, std::size_t slot) {
  return std::make_unique<SiblingNode>(where, slot);
}

}  // namespace operculum::layout
