#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "layout/plan/plan.h"

namespace operculum::layout {

/// A name, what it is, and where its value is kept.
struct Variable {
  std::string name;
  StaticType type;
  std::size_t slot = 0;
  const TextPlan* raw = nullptr;  ///< the slot holds a text as it was read
  bool loop = false;              ///< behind the slot stand its list and its number
  const Node* lazy = nullptr;     ///< evaluated when it is first used
};

/// Stands for the reader's place where slots are told: "here", "start", "left", "end".
constexpr std::size_t kPlace = SIZE_MAX;

/// An equality that was compiled: its sides, and what each of them named, as a part of Scope::named.
struct Equality {
  const syntax::Expr* expr;
  std::array<const Node*, 2> sides;
  std::size_t begin, middle, end;
};

/// The variables that an expression may name, and the slots of its frame.
struct Scope {
  std::vector<Variable> variables;
  std::size_t next = 0, most = 0;
  bool in_record = false;
  std::vector<std::size_t> named;        ///< the slots that were named so far, and kPlace
  std::vector<Equality> equalities;      ///< those that were compiled so far
  bool element_used = false;             ///< `it` was named since this was cleared
  std::optional<std::size_t> loop_used;  ///< slot of the loop variable named last

  std::size_t take(std::size_t count = 1) {
    std::size_t slot = next;
    next += count;
    most = std::max(most, next);
    return slot;
  }
  const Variable* find(std::string_view name) const {
    for (auto it = variables.rbegin(); it != variables.rend(); ++it) {
      if (it->name == name) return &*it;
    }
    return nullptr;
  }
};

/// Variables that are there for a part of an expression.
class Inner {
 public:
  explicit Inner(Scope& scope) : scope_(scope), variables_(scope.variables.size()), next_(scope.next) {}
  ~Inner() {
    scope_.variables.resize(variables_);
    scope_.next = next_;
  }
  Inner(const Inner&) = delete;
  Inner& operator=(const Inner&) = delete;

 private:
  Scope& scope_;
  std::size_t variables_, next_;
};

}  // namespace operculum::layout
