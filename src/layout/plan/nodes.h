#pragma once

#include <functional>

#include "layout/plan/plan.h"

namespace operculum::layout {

// The kinds of expressions. Each is a few lines in nodes_*.cpp; compile_expression.cpp makes them.

NodePtr number_node(Span where, std::int64_t value);
NodePtr text_node(Span where, std::string text);
NodePtr bytes_node(Span where, const std::string& bytes);
NodePtr truth_node(Span where, bool value);
NodePtr nothing_node(Span where);

/// A variable of the frame. `raw` is there when the slot holds a text as it was read.
NodePtr slot_node(Span where, StaticType type, std::size_t slot, const TextPlan* raw);
/// A variable of an entry: `body` is evaluated when it is first used. It must outlive the node.
NodePtr lazy_node(Span where, std::size_t slot, const Node& body);
NodePtr global_node(Span where, StaticType type, std::size_t global);
NodePtr field_node(Span where, NodePtr record, const RecordPlan& plan, const FieldPlan& field);
NodePtr element_node(Span where, NodePtr list, NodePtr index);
NodePtr list_slice_node(Span where, NodePtr list, NodePtr from, NodePtr to);
NodePtr text_slice_node(Span where, NodePtr text, NodePtr from, NodePtr to);
NodePtr bytes_slice_node(Span where, NodePtr bytes, NodePtr from, NodePtr length);

/// A part of a form, and how it is shown.
struct FormPart {
  NodePtr part;
  unsigned width = 0;
  bool zeros = false;
  char kind = 'd';  // d, x, X
};
NodePtr form_node(Span where, std::vector<std::string> texts, std::vector<FormPart> parts);

NodePtr arithmetic_node(Span where, char what, NodePtr a, NodePtr b);
NodePtr not_node(Span where, NodePtr a);
/// How two truths are joined.
enum class Logic { both, either };
NodePtr logic_node(Span where, Logic logic, NodePtr a, NodePtr b);
/// How two values are compared.
enum class Comparison { equal, unequal, less, greater, less_or_equal, greater_or_equal };
NodePtr compare_node(Span where, Comparison how, NodePtr a, NodePtr b);
NodePtr between_node(Span where, NodePtr a, NodePtr low, NodePtr high);
NodePtr one_of_node(Span where, NodePtr a, std::vector<NodePtr> others);
NodePtr conditional_node(Span where, NodePtr condition, NodePtr then, NodePtr otherwise);
NodePtr fallback_node(Span where, NodePtr first, NodePtr second);
NodePtr exists_node(Span where, NodePtr of);

NodePtr pipe_node(Span where, NodePtr bytes, std::unique_ptr<const ChainPlan> chain);
NodePtr read_node(Span where, ReadPlanPtr plan);
const ReadPlan* plan_of_read(const Node& node);  ///< null when it is no read

/// What `here`, `start`, `left` and `end` give.
enum class Position { here, start, left, end };
NodePtr position_node(Span where, Position what);
/// "end - 32" as 32; nothing when it is not of that form.
std::optional<std::int64_t> distance_from_end(const Node& node);

NodePtr list_node(Span where, StaticType type, std::vector<NodePtr> parts);
NodePtr joined_lists_node(Span where, std::vector<NodePtr> lists);  ///< of one type, one behind the other
NodePtr range_node(Span where, NodePtr from, NodePtr to);
NodePtr cut_node(Span where, NodePtr bytes, NodePtr sizes);  ///< runs of these sizes, one after another
NodePtr byte_list_node(NodePtr bytes);                       ///< each byte as a number
/// What is carried through a list: `carried` is its slot, `body` what becomes of it at each element, whose
/// slots lie as those of Each.
struct Fold {
  NodePtr start, list, body;
  std::size_t carried = 0, slot = 0;
  std::optional<std::size_t> number_slot;
};
NodePtr fold_node(Span where, Fold fold, bool all);
/// Looks at each element: the slots of the element, of its list and of its number stand one after another.
/// Where the condition can only hold when `key`, which comes of the element alone, equals `sought`, which is
/// the same for all elements, both point into it: then elements are looked up.
struct Each {
  NodePtr list, condition, body;
  const Node *key = nullptr, *sought = nullptr;
  std::size_t slot = 0;
  std::optional<std::size_t> number_slot;
};
/// What is made of the elements of a list.
enum class Over { first, last, any, all, count, sum, least, most, each, join };
NodePtr over_node(Span where, StaticType type, Over what, Each each);
NodePtr chain_node(Span where, StaticType type, NodePtr from, NodePtr condition, NodePtr next,
                   std::size_t slot);
NodePtr tree_node(Span where, StaticType type, NodePtr roots, NodePtr children, std::size_t slot);
NodePtr trail_node(Span where, NodePtr part, NodePtr separator, std::size_t slot);
NodePtr next_node(Span where, NodePtr part, NodePtr last, std::size_t slot);
NodePtr above_node(Span where, NodePtr part, NodePtr last, std::size_t slot);
NodePtr parent_node(Span where, NodePtr part, std::size_t slot);
NodePtr sibling_node(Span where, std::size_t slot);

NodePtr function_node(Span where, const FunctionPlan& function, std::vector<NodePtr> arguments);

/// A function of the language's own.
using BuiltIn = Value (*)(Frame& frame, const Node& call, const std::vector<NodePtr>& arguments);
NodePtr built_in_node(Span where, StaticType type, BuiltIn call, std::vector<NodePtr> arguments);
NodePtr known_node(Span where, std::string hash, NodePtr value, bool lower);
NodePtr key_node(Span where, NodePtr name, NodePtr condition, std::size_t slot);
NodePtr where_node(Span where, NodePtr record, bool end);

}  // namespace operculum::layout
