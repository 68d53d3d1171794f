// Lists: made, looked through, followed from link to link, and walked as trees.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>
#include <utility>

#include "base/error.h"
#include "layout/plan/nodes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

void check_room(Run& run, std::size_t count) {
  if (count > run.context().limits.max_entries)
    throw LimitExceeded(
        fmt::format("a list of more than {} elements; if that is right, raise --max-entries", count));
}

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

class ListNode final : public Node {
 public:
  ListNode(Span where, StaticType type, std::vector<NodePtr> parts)
      : Node(where, type), parts_(std::move(parts)) {}
  Value value(Frame& frame) const override {
    List list;
    for (const NodePtr& part : parts_) {
      Value one = part->value(frame);
      if (one.there()) list.values.push_back(one);  // what is not there is left out
    }
    return frame.run.store().add(std::move(list));
  }

 private:
  std::vector<NodePtr> parts_;
};

class JoinedListsNode final : public Node {
 public:
  JoinedListsNode(Span where, std::vector<NodePtr> lists)
      : Node(where, lists.front()->type()), lists_(std::move(lists)) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    List all;
    for (const NodePtr& list : lists_) {
      Value one = list->value(frame);
      if (!one.there()) continue;
      for (std::uint64_t i = 0, count = run.count(one); i < count; ++i) {
        run.step(where());
        check_room(run, all.values.size());
        all.values.push_back(run.element(one, i));
      }
    }
    return run.store().add(std::move(all));
  }

 private:
  std::vector<NodePtr> lists_;
};

class RangeNode final : public Node {
 public:
  RangeNode(Span where, NodePtr from, NodePtr to)
      : Node(where, StaticType{Base::number}.list()), from_(std::move(from)), to_(std::move(to)) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    List list;
    std::int64_t to = to_->number(frame);
    for (std::int64_t i = from_->number(frame); i < to; ++i) {
      run.step(where());
      check_room(run, list.values.size());
      list.values.push_back(Value::of(i));
    }
    return run.store().add(std::move(list));
  }

 private:
  NodePtr from_, to_;
};

class CutNode final : public Node {
 public:
  CutNode(Span where, NodePtr bytes, NodePtr sizes)
      : Node(where, StaticType{Base::bytes}.list()), bytes_(std::move(bytes)), sizes_(std::move(sizes)) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    Value bytes = bytes_->value(frame), sizes = sizes_->value(frame);
    if (!bytes.there() || !sizes.there()) return {};
    Run::Piece all = run.placed(bytes);
    List list;
    std::uint64_t at = 0, count = run.count(sizes);
    for (std::uint64_t i = 0; i < count; ++i) {
      run.step(where());
      std::int64_t size = run.element(sizes, i).a;
      if (size < 0 || static_cast<std::uint64_t>(size) > all.length - at)
        fail(run, fmt::format("piece {} of {} bytes does not fit into the {} that are left", i, size,
                              all.length - at));
      list.values.push_back(Value::bytes(all.region, all.offset + at, static_cast<std::uint64_t>(size)));
      at += static_cast<std::uint64_t>(size);
    }
    return run.store().add(std::move(list));
  }

 private:
  NodePtr bytes_, sizes_;
};

class OverNode final : public Node {
 public:
  OverNode(Span where, StaticType type, Over what, Each each)
      : Node(where, type), what_(what), each_(std::move(each)) {}

  Value value(Frame& frame) const override {
    Run& run = frame.run;
    Value list = each_.list->value(frame);
    Result result;
    result.truth = what_ == Over::all;
    if (list.there()) {
      frame.slots[each_.slot + 1] = list;
      if (const KeyIndex* index = index_of(frame, list)) {
        index->each(key_of(frame, *each_.sought), [&](std::uint64_t element) {
          go_to(frame, list, element);
          return look(frame, result);
        });
      } else {
        std::uint64_t count = run.count(list);
        for (std::uint64_t i = 0; i < count; ++i) {
          go_to(frame, list, i);
          if (!look(frame, result)) break;
        }
      }
    }
    return finish(run, std::move(result));
  }

 private:
  void go_to(Frame& frame, const Value& list, std::uint64_t i) const {
    frame.run.step(where());
    frame.slots[each_.slot] = frame.run.element(list, i);
    frame.slots[each_.slot + 2] = Value::of(static_cast<std::int64_t>(i));
    if (each_.number_slot) frame.slots[*each_.number_slot] = Value::of(static_cast<std::int64_t>(i));
  }

  /// A number that equal values share.
  static std::uint64_t key_of(Frame& frame, const Node& node) {
    if (node.type().is(Base::text)) return std::hash<std::string>()(node.text_of(frame));
    if (!node.type().is(Base::bytes)) return static_cast<std::uint64_t>(node.number(frame));
    Bytes bytes = node.bytes(frame);
    return std::hash<std::string_view>()(as_text(bytes));
  }

  /// The elements by their keys; null when the list is looked through for the first time, when a key cannot
  /// be had (then each element is to tell so in its turn), and when there is no key.
  const KeyIndex* index_of(Frame& frame, const Value& list) const {
    if (each_.key == nullptr) return nullptr;
    KeyIndex& index = frame.run.by_key[{this, list.object}];
    if (!std::exchange(index.wanted, true)) return nullptr;
    if (!std::exchange(index.tried, true)) fill(index, frame, list);
    return index.filled() ? &index : nullptr;
  }

  void fill(KeyIndex& index, Frame& frame, const Value& list) const {
    Run& run = frame.run;
    Run::Unrecorded unrecorded(run);  // of the elements only those are told that are found
    std::vector<KeyIndex::Row> rows;
    std::uint64_t count = run.count(list);
    rows.reserve(count);
    try {
      for (std::uint64_t i = 0; i < count; ++i) {
        go_to(frame, list, i);
        rows.push_back({key_of(frame, *each_.key), i});
      }
    } catch (const TooDeep&) {
      throw;
    } catch (const Malformed&) {
      return;
    }
    index.fill(rows);
  }

  struct Result {
    Value found;
    bool truth = false;
    std::int64_t number = 0;
    std::uint64_t count = 0;
    std::vector<Value> values;
  };

  /// Of a damaged element nothing holds.
  bool holds(Frame& frame) const {
    try {
      return each_.condition == nullptr || each_.condition->truth(frame);
    } catch (const TooDeep&) {
      throw;
    } catch (const Malformed&) {
      return false;
    }
  }

  /// False when the answer is known.
  bool look(Frame& frame, Result& result) const {
    if (what_ == Over::all) return result.truth = holds(frame);
    bool fits = each_.condition == nullptr || each_.condition->truth(frame);
    if (!fits) return true;
    Value element = each_.body != nullptr ? each_.body->value(frame) : frame.slots[each_.slot];
    ++result.count;
    switch (what_) {
      case Over::first:
        result.found = element;
        return false;
      case Over::last:
        result.found = element;
        return true;
      case Over::any:
        result.truth = true;
        return false;
      case Over::sum:
        if (__builtin_add_overflow(result.number, element.a, &result.number))
          fail(frame.run, "this sum leaves the range of 64-bit numbers");
        return true;
      case Over::least:
      case Over::most: {
        bool better = !result.found.there() ||
                      (what_ == Over::least ? element.a < result.found.a : element.a > result.found.a);
        if (better) result.found = element;
        return true;
      }
      case Over::each:
      case Over::join:
        check_room(frame.run, result.values.size());
        if (element.there()) result.values.push_back(element);
        return true;
      default:
        return true;
    }
  }

  Value finish(Run& run, Result result) const {
    switch (what_) {
      case Over::any:
      case Over::all:
        return Value::truth(result.truth);
      case Over::count:
        return Value::of(static_cast<std::int64_t>(result.count));
      case Over::sum:
        return Value::of(result.number);
      case Over::each: {
        List list;
        list.values = std::move(result.values);
        return run.store().add(std::move(list));
      }
      case Over::join: {
        Blob blob;
        blob.parts = std::move(result.values);
        return run.store().add(std::move(blob));
      }
      default:
        return result.found;
    }
  }

  Over what_;
  Each each_;
};

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
      check_room(run, list.values.size());
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
      check_room(run, tree.values.size());
      tree.values.push_back(element);
      tree.parents.push_back(parent);
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

}  // namespace

NodePtr joined_lists_node(Span where, std::vector<NodePtr> lists) {
  return std::make_unique<JoinedListsNode>(where, std::move(lists));
}
NodePtr list_node(Span where, StaticType type, std::vector<NodePtr> parts) {
  return std::make_unique<ListNode>(where, type, std::move(parts));
}
NodePtr range_node(Span where, NodePtr from, NodePtr to) {
  return std::make_unique<RangeNode>(where, std::move(from), std::move(to));
}
NodePtr cut_node(Span where, NodePtr bytes, NodePtr sizes) {
  return std::make_unique<CutNode>(where, std::move(bytes), std::move(sizes));
}
NodePtr over_node(Span where, StaticType type, Over what, Each each) {
  return std::make_unique<OverNode>(where, type, what, std::move(each));
}
NodePtr chain_node(Span where, StaticType type, NodePtr from, NodePtr condition, NodePtr next,
                   std::size_t slot) {
  return std::make_unique<ChainNode>(where, type, std::move(from), std::move(condition), std::move(next),
                                     slot);
}
NodePtr tree_node(Span where, StaticType type, NodePtr roots, NodePtr children, std::size_t slot) {
  return std::make_unique<TreeNode>(where, type, std::move(roots), std::move(children), slot);
}
NodePtr trail_node(Span where, NodePtr part, NodePtr separator, std::size_t slot) {
  return std::make_unique<TrailNode>(where, std::move(part), std::move(separator), slot);
}
NodePtr next_node(Span where, NodePtr part, NodePtr last, std::size_t slot) {
  return std::make_unique<NextNode>(where, std::move(part), std::move(last), slot);
}
NodePtr above_node(Span where, NodePtr part, NodePtr last, std::size_t slot) {
  return std::make_unique<AboveNode>(where, std::move(part), std::move(last), slot);
}

}  // namespace operculum::layout
