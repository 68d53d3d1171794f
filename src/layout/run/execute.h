#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

/// What the statements of a description find out before any entry is listed.
struct Head {
  std::vector<std::pair<std::string, std::string>> facts;
  std::vector<std::string> missing;  ///< sentences: files that are wanted beside this one
};

/// Runs the bindings, requirements and facts, top to bottom. Throws Malformed when the file is not what is
/// described: the message begins with the line of the description.
Head execute(Run& run);

/// Compares the checksums that statements state of parts of the container; a sentence for each that differs.
std::vector<std::string> compare_checks(Run& run);

/// Marks the parts that `region` statements name, for the coverage.
void mark_regions(Run& run);

/// A checksum that is stated, with its value looked up.
struct ExpectedSum {
  const CheckPlan* check;
  Bytes value;  // highest byte first
};
ExpectedSum expected_sum(const CheckPlan& check, Frame& frame);

/// "crc32 differs (stored 1f0c22aa, computed 7b90013d)", or empty when the sum is right.
std::string compare(const ExpectedSum& expected, ByteView computed);
/// The same of bytes that are read for it.
std::string compare(const ExpectedSum& expected, const RecipePtr& bytes);

}  // namespace operculum::layout
