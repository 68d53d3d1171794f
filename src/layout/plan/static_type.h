#pragma once

#include <string>

namespace operculum::layout {

struct RecordPlan;

/// What an expression gives, known before anything is read.
struct StaticType {
  enum class Base { unknown, number, truth, time, text, bytes, record, key };
  Base base = Base::unknown;
  const RecordPlan* record = nullptr;
  int depth = 0;  ///< how many lists are around it

  bool is(Base other) const { return base == other && depth == 0; }
  bool is_list() const { return depth > 0; }
  bool numeric() const { return is(Base::number) || is(Base::truth); }
  bool comparable_bytes() const { return is(Base::text) || is(Base::bytes); }
  bool operator==(const StaticType&) const = default;
  bool fits(const StaticType& wanted) const {  ///< a condition is as good as a number
    return *this == wanted || (numeric() && wanted.numeric());
  }
  StaticType element() const { return {base, record, depth - 1}; }
  StaticType list() const { return {base, record, depth + 1}; }
  std::string name() const;  ///< "a number", "a list of Item records"
};

}  // namespace operculum::layout
