#pragma once

#include <map>
#include <span>

#include "layout/plan/chain_plan.h"
#include "layout/plan/read_plan.h"

namespace operculum::layout {

/// A function that can be called.
struct FunctionPlan {
  std::string name;
  Span where;
  std::vector<StaticType> parameters;
  StaticType result;
  std::size_t slots = 0;
  NodePtr body;  // null while it is being compiled
};

/// A value compared with a checksum.
struct CheckPlan {
  enum class Of { expression, data, stored };
  Span where;
  std::string algorithm;
  std::vector<std::int64_t> parameters;
  Of of = Of::expression;
  NodePtr what, expected;
};

struct EntryPlan;

/// A role of an entry as a description names it, and where its expression is kept.
struct RoleKind {
  std::string_view name;
  NodePtr EntryPlan::*member;
  StaticType::Base base;
};
std::span<const RoleKind> role_kinds();

/// What a description says of one kind of entry.
struct EntryPlan {
  Span where;
  struct Loop {
    NodePtr list;
    std::size_t slot = 0;  // the element; behind it the list and the element's number
    std::optional<std::size_t> number_slot;
  };
  std::vector<Loop> loops;
  NodePtr condition;
  std::vector<std::pair<std::size_t, NodePtr>> lets;
  NodePtr path, data, size, time, created, accessed, mode, crc32, comment, kind, folder, link, encrypted;
  NodePtr also;  ///< other paths of the same entry: a list
  std::vector<CheckPlan> checks;
  std::size_t slots = 0;
};

/// A statement that can be carried out.
struct StatementPlan {
  enum class Kind { binding, require, expect, fact, check, entry, order, region };
  Kind kind;
  Span where;
  std::string name, message;
  std::size_t global = 0;
  NodePtr value;
  std::size_t slots = 0;  // variables that the value needs
  std::size_t entry = 0;
  CheckPlan check;
  bool big = false, other_order = false;
};

/// Bytes that must stand at a fixed place: what makes recognition cheap.
struct MagicPart {
  bool from_end = false;
  std::uint64_t offset = 0;
  std::string bytes;
};

constexpr std::size_t kStrongMagic = 4;  ///< bytes that chance does not bring together

/// A compiled description. Immutable; shared by all containers that it describes.
struct Plan {
  Description description;
  std::string id, title, about, names_file;  // id: the description's file name without its ending
  std::vector<std::string> suffixes;
  std::vector<std::unique_ptr<RecordPlan>> records;
  std::vector<std::unique_ptr<FunctionPlan>> functions;
  std::vector<StatementPlan> statements;
  std::vector<EntryPlan> entries;
  std::vector<std::string> globals;
  std::vector<StaticType> global_types;
  std::vector<MagicPart> magic;
  bool looks_at_end = false;             ///< something above the entries is read at a distance from the end
  std::vector<std::string> known_names;  ///< from its names file
  bool stranger = false;                 ///< it came neither with the program nor from the user's own folder
};

}  // namespace operculum::layout
