#pragma once

#include "study/hypothesis.h"

namespace operculum::study {

constexpr std::uint64_t kFarTable = 64;  ///< a table that begins later should be told where

/// Looks numbers up in the frame and notes what uses them.
class Lookup {
 public:
  Lookup(const Frame& frame, std::vector<HeadField>& used, bool big)
      : frame_(frame), used_(used), big_(big) {}

  /// An expression for the number, when it is stated; the field gets that name.
  std::optional<std::string> stated(std::uint64_t value, const std::string& name, const std::string& why) {
    auto field = frame_.find(value, used_, big_);
    if (!field) return std::nullopt;
    field->name = name;
    field->why = why;
    used_.push_back(*field);
    return expression_of(*field);
  }

  static std::string expression_of(const HeadField& field) {
    constexpr std::string_view kRecords[] = {"head", "tail", "front"};
    return fmt::format("{}.{}", kRecords[static_cast<std::size_t>(field.part)], field.name);
  }

 private:
  const Frame& frame_;
  std::vector<HeadField>& used_;
  bool big_;
};

/// What numbers of the header and the trailer tell of the whole, and what speaks for that: where records
/// begin, how many there are, where a packed index lies, where places count from.
void explain_stated(Hypothesis& found, Lookup& lookup, std::uint64_t file_size);

}  // namespace operculum::study
