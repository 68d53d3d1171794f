#pragma once

#include <optional>

#include "base/bytes.h"
#include "base/cursor.h"
#include "layout/plan/chain_plan.h"
#include "layout/plan/node.h"
#include "layout/text/syntax.h"

namespace operculum::layout {

class Region;

/// How one thing is read from bytes.
struct ReadPlan {
  explicit ReadPlan(StaticType given) : type(given) {}
  virtual ~ReadPlan() = default;
  StaticType type;
  Span where;
  std::optional<std::uint64_t> fixed;  ///< bytes it takes, when that is always the same
  bool direct = false;                 ///< can be read without the fields around it
  bool checks = false;                 ///< reading it may find a condition that does not hold
  bool leaf = true;                    ///< keeps nothing in the Store

  /// Reads at the reader's place and moves it. A text comes as its raw bytes: see TextPlan.
  virtual Value read(Frame& frame, Reader& reader) const = 0;
};

using ReadPlanPtr = std::unique_ptr<const ReadPlan>;

/// Something a record does while it is read, in order.
struct Action {
  explicit Action(Span span) : where(span) {}
  virtual ~Action() = default;
  Span where;
  virtual void run(Frame& frame, Reader& reader) const = 0;
};

/// How a field of a record is read or computed.
struct FieldPlan {
  std::string name;
  std::size_t slot = 0;
  StaticType type;
  const ReadPlan* read = nullptr;       ///< null: computed
  std::optional<std::uint64_t> offset;  ///< from the record's start, when it is always the same
};

/// How a record is read.
struct RecordPlan {
  std::string name;
  Span where;
  std::size_t parameters = 0;  ///< the first slots
  std::vector<FieldPlan> fields;
  std::vector<std::unique_ptr<const Action>> actions;
  std::vector<ReadPlanPtr> reads;
  std::size_t slots = 0;
  std::optional<std::uint64_t> fixed;
  bool plain = false;  ///< of fixed size, and each field can be read by itself
  bool leaf = true;
  bool checks = false;
  bool complete = false;  ///< compiled; false while it is being compiled

  const FieldPlan* find(std::string_view field) const {
    for (const FieldPlan& one : fields) {
      if (one.name == field) return &one;
    }
    return nullptr;
  }
};

/// A number: of bytes or of digits, with arithmetic and a condition behind it.
struct NumberPlan final : ReadPlan {
  NumberPlan() : ReadPlan({StaticType::Base::number}) {}
  enum class Form { fixed, leb128, sleb128, vlq, digits };
  enum class Ends { length, mark, word };
  struct Step {
    char what;  // * / + - x
    NodePtr operand;
    std::optional<std::int64_t> constant;
  };
  Form form = Form::fixed;
  unsigned bytes = 0;
  bool is_signed = false;
  std::optional<bool> big;  ///< empty: as the file's order says
  int base = 10;            ///< of digits
  Ends ends = Ends::length;
  NodePtr length;
  std::string mark;
  std::vector<Step> steps;
  NodePtr low, high;
  std::vector<NodePtr> allowed;

  Value read(Frame& frame, Reader& reader) const override;
  bool plain() const {
    return form == Form::fixed && steps.empty() && !checks;
  }  ///< refine() changes nothing
  /// Of Form::fixed; `file_is_big` is the order of numbers that do not state theirs.
  std::int64_t raw(ByteView view, bool file_is_big) const {
    bool from_high = big.value_or(file_is_big);
    if (bytes == 4 && !from_high && !is_signed) return load_little<std::uint32_t>(view.data());  // most usual
    return raw_of_any_width(view, from_high);
  }
  std::int64_t refine(Frame& frame, std::int64_t raw) const {
    std::int64_t value = computed(frame, raw);
    if (checks) check(frame, value);
    return value;
  }

 private:
  std::int64_t computed(Frame& frame, std::int64_t raw) const;  ///< the arithmetic behind it
  void check(Frame& frame, std::int64_t value) const;           ///< throws Malformed
  std::int64_t raw_of_any_width(ByteView view, bool from_high) const;
};

/// A text; read as its raw bytes, decoded when it is looked at.
struct TextPlan final : ReadPlan {
  TextPlan() : ReadPlan({StaticType::Base::text}) {}
  enum class Ends { length, mark, sized, to_end, word };
  Ends ends = Ends::length;
  NodePtr length;
  std::string mark;
  ReadPlanPtr size;
  std::optional<std::string> padding;
  std::string encoding;
  std::unique_ptr<const ChainPlan> transform;
  std::vector<NodePtr> allowed;

  Value read(Frame& frame, Reader& reader) const override;
  void decode(Run& run, const Value& raw, std::string& out) const;
};

/// Bytes, up to a length or a mark.
struct BytesPlan final : ReadPlan {
  BytesPlan() : ReadPlan({StaticType::Base::bytes}) {}
  TextPlan::Ends ends = TextPlan::Ends::length;
  NodePtr length;
  std::string mark;
  ReadPlanPtr size;
  std::optional<std::string> constant;
  std::unique_ptr<const ChainPlan> transform;

  Value read(Frame& frame, Reader& reader) const override;
};

/// A record within another thing.
struct RecordRead final : ReadPlan {
  explicit RecordRead(const RecordPlan& plan) : ReadPlan({StaticType::Base::record, &plan}), record(plan) {}
  const RecordPlan& record;
  std::vector<NodePtr> arguments;

  Value read(Frame& frame, Reader& reader) const override;
  /// Runs the record's actions with slots that are ready.
  static void run_actions(const RecordPlan& record, Frame& frame, Reader& reader);
};

/// Things of one kind, one after another.
struct ListRead final : ReadPlan {
  explicit ListRead(StaticType list) : ReadPlan(list) {}
  ReadPlanPtr element;
  syntax::ListEnd ends = syntax::ListEnd::counted;
  NodePtr count;             // or the condition, or the size
  std::size_t it = 0;        // the slot of the element that a condition looks at
  bool looks_ahead = false;  // the condition names no element: it is asked before each one is read

  Value read(Frame& frame, Reader& reader) const override;

 private:
  Value strided(Frame& frame, Reader& reader, std::uint64_t count) const;
};

/// A read somewhere else: `at ... in ...`.
struct PlacedRead final : ReadPlan {
  explicit PlacedRead(ReadPlanPtr plan) : ReadPlan(plan->type), inner(std::move(plan)) {}
  ReadPlanPtr inner;
  NodePtr at, in;
  Value read(Frame& frame, Reader& reader) const override;

 private:
  Value observed(Frame& frame, Reader& reader) const;
};

}  // namespace operculum::layout
