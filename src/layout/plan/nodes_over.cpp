// What looks at each element of a list: first, any, all, sum, each, join and their like.
#include <fmt/format.h>

#include <utility>

#include "base/error.h"
#include "layout/plan/nodes.h"
#include "layout/run/run.h"

namespace operculum::layout {
namespace {

using Base = StaticType::Base;

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
        frame.run.check_room(result.values.size());
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

}  // namespace

NodePtr over_node(Span where, StaticType type, Over what, Each each) {
  return std::make_unique<OverNode>(where, type, what, std::move(each));
}

}  // namespace operculum::layout
