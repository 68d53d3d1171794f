#pragma once

#include "layout/rewrite/attempt.h"

namespace operculum::layout {

/// A number that has to take more bytes, and how many.
struct Widened {
  NumberRead read;
  unsigned width;
};
using AllWidened = std::map<std::uint64_t, Widened>;  // by place

/// Thrown where a number has no room, and may be given more.
struct NoRoom {
  Widened wanted;
};

/// The numbers of a container that become others.
class NewNumbers {
 public:
  /// A number's new bytes, in the place of so many.
  struct Number {
    unsigned width;
    Bytes bytes;
  };

  /// Those that lie in bytes that `row` removes are left alone. All must outlive it.
  NewNumbers(const Survey& survey, const RowChange* row, const AllWidened& widened)
      : survey_(survey), row_(row), widened_(widened) {}

  /// Throws NoRoom, and Unsupported where a number has no room or would have to be two different ones.
  void put(const NumberRead& read, std::int64_t value);
  /// What a number tells was `now` and is to be `wanted`.
  void set(const Driver& driver, std::uint64_t wanted, std::uint64_t now);
  /// The same; the number stays as it is where it cannot be another one.
  void set_if_it_fits(const Driver& driver, std::uint64_t wanted, std::uint64_t now);

  bool contains(std::uint64_t at) const { return numbers_.contains(at); }
  const std::map<std::uint64_t, Number>& all() const { return numbers_; }  ///< by their place in the old file

 private:
  const Survey& survey_;
  const RowChange* row_;
  const AllWidened& widened_;
  std::map<std::uint64_t, Number> numbers_;
};

}  // namespace operculum::layout
