// Lists that are made: of values, of other lists, of bytes, of what is carried through a list.
#include <fmt/format.h>

#include <utility>

#include "base/error.h"
#include "layout/plan/nodes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

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
        run.check_room(all.values.size());
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
    list.shape = List::Shape::range;
    std::int64_t to = to_->number(frame);
    list.first = from_->number(frame);
    if (list.first < to) list.count = static_cast<std::uint64_t>(to) - static_cast<std::uint64_t>(list.first);
    run.check_room(list.count);
    run.step(where(), list.count);
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

/// The bytes of a run as a list of numbers.
class ByteListNode final : public Node {
 public:
  explicit ByteListNode(NodePtr bytes)
      : Node(bytes->where(), StaticType{Base::number}.list()), bytes_(std::move(bytes)) {
    byte_.where = where();
    byte_.bytes = 1;
    byte_.fixed = 1;
    byte_.direct = true;
  }
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    Value bytes = bytes_->value(frame);
    if (!bytes.there()) return {};
    Run::Piece piece = run.placed(bytes);
    List list;
    list.shape = List::Shape::strided;
    list.element = &byte_;
    list.region = piece.region;
    list.offset = piece.offset;
    list.stride = 1;
    list.count = piece.length;
    return run.store().add(std::move(list));
  }

 private:
  NodePtr bytes_;
  NumberPlan byte_;
};

/// Carries a value through a list: what comes out at its end, or, with `all`, after each element.
class FoldNode final : public Node {
 public:
  FoldNode(Span where, Fold fold, bool all)
      : Node(where, all ? fold.start->type().list() : fold.start->type()),
        fold_(std::move(fold)),
        all_(all) {}
  Value value(Frame& frame) const override {
    Run& run = frame.run;
    List results;
    Value carried = fold_.start->value(frame), list = fold_.list->value(frame);
    std::uint64_t count = list.there() ? run.count(list) : 0;
    for (std::uint64_t i = 0; i < count; ++i) {
      run.step(where());
      frame.slots[fold_.carried] = carried;
      frame.slots[fold_.slot] = run.element(list, i);
      frame.slots[fold_.slot + 1] = list;
      frame.slots[fold_.slot + 2] = Value::of(static_cast<std::int64_t>(i));
      if (fold_.number_slot) frame.slots[*fold_.number_slot] = frame.slots[fold_.slot + 2];
      carried = fold_.body->value(frame);
      if (!all_) continue;
      run.check_room(results.values.size());
      results.values.push_back(carried);
    }
    return all_ ? run.store().add(std::move(results)) : carried;
  }

 private:
  Fold fold_;
  bool all_;
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
NodePtr byte_list_node(NodePtr bytes) {
  return std::make_unique<ByteListNode>(std::move(bytes));
}
NodePtr fold_node(Span where, Fold fold, bool all) {
  return std::make_unique<FoldNode>(where, std::move(fold), all);
}

}  // namespace operculum::layout
