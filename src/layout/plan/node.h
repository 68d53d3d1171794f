#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "layout/plan/static_type.h"
#include "layout/run/value.h"
#include "layout/text/problem.h"

namespace operculum::layout {

class Run;

/// Where in some region a record is being read. Offsets are the region's own; what a description sees counts
/// from `base`.
struct Reader {
  std::uint32_t region = 0;
  std::uint64_t base = 0, at = 0, limit = 0;
  std::uint64_t start = 0;  ///< of the record
};

/// What an expression is evaluated with: its variables, and the reader when a record is being read.
struct Frame {
  Run& run;
  Value* slots;
  Reader* reader = nullptr;
};

struct StepKind;

/// Where an entry's bytes lie and what they go through, for a listing; nothing is decoded for it.
struct Outline {
  bool placed = false;  ///< they are one run: `region` and `offset`
  std::uint32_t region = 0;
  std::uint64_t offset = 0;
  std::optional<std::uint64_t> length;  ///< as stored, in bytes
  std::vector<const StepKind*> steps;
};

/// What has to change in a container so that an expression gives another value: the fields it comes from, or
/// why it cannot be written back.
struct WriteBack {
  std::vector<std::string> fields;
  std::string obstacle;  ///< empty: it can be written
  void stop(std::string why) {
    if (obstacle.empty()) obstacle = std::move(why);
  }
};

/// A compiled expression: names are looked up, types are checked, constants are folded. Shared by all runs.
class Node {
 public:
  Node(Span where, StaticType type) : where_(where), type_(type) {}
  virtual ~Node() = default;

  virtual Value value(Frame& frame) const = 0;
  virtual std::int64_t number(Frame& frame) const;  ///< of a number or a truth
  virtual std::optional<std::int64_t> number_if(
      Frame& frame) const;                                  ///< the same; nothing where it is not there
  virtual void text(Frame& frame, std::string& out) const;  ///< appends; of a text
  virtual Bytes bytes(Frame& frame) const;  ///< of bytes or a text: all of them, a few MiB at most
  virtual void outline(Frame& frame, Outline& out) const;  ///< of bytes; `out` is empty before
  virtual std::optional<std::size_t> slot() const { return std::nullopt; }  ///< of a variable that is no text
  virtual void write_back(WriteBack& back) const { back.stop("is computed"); }
  virtual std::optional<std::int64_t> constant() const {
    return std::nullopt;
  }  ///< of a number, when known already

  const StaticType& type() const { return type_; }
  const Span& where() const { return where_; }
  std::string text_of(Frame& frame) const {
    std::string out;
    text(frame, out);
    return out;
  }
  bool truth(Frame& frame) const { return number(frame) != 0; }
  std::uint64_t size(Frame& frame, const char* what) const;  ///< a number that must not be negative
  std::optional<std::uint64_t> size_if(Frame& frame, const char* what) const;

  /// Throws Malformed with the line of the description in front.
  [[noreturn]] void fail(const Run& run, const std::string& text) const;

 private:
  std::uint64_t not_negative(Frame& frame, const char* what, std::int64_t found) const;

  Span where_;
  StaticType type_;
};

using NodePtr = std::unique_ptr<const Node>;

}  // namespace operculum::layout
