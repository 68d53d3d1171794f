#pragma once

#include "base/facts.h"
#include "layout/run/run.h"

namespace operculum::layout {

/// A checksum that is stated, with its value looked up.
struct ExpectedSum {
  const CheckPlan* check;
  Bytes value;  // highest byte first
};

/// A checksum of a part of the container that is not the stated one.
struct DifferingCheck {
  ExpectedSum expected;
  Bytes computed;  ///< highest byte first
};

/// What the statements of a description find out before any entry is listed.
struct Head {
  Facts facts;
  std::vector<std::string> missing;  ///< sentences: files that are wanted beside this one
};

/// Runs the bindings, requirements and facts, top to bottom. Throws Malformed when the file is not what is
/// described: the message begins with the line of the description.
Head execute(Run& run);

/// Compares the checksums that statements state of parts of the container; a sentence for each that differs.
std::vector<std::string> compare_checks(Run& run);

/// The checksums of parts of the container that are not the stated ones. What cannot be compared is left out.
std::vector<DifferingCheck> differing_checks(Run& run);

/// Marks the parts that `region` statements name, for the coverage. The names of those that mark nothing.
std::vector<std::string> mark_regions(Run& run);

ExpectedSum expected_sum(const CheckPlan& check, Frame& frame);

/// The checksum of bytes that are read for it.
Bytes computed_sum(const CheckPlan& check, const RecipePtr& bytes);

/// "crc32 differs (stored 1f0c22aa, computed 7b90013d)", or empty when the sum is right.
std::string compare(const ExpectedSum& expected, ByteView computed);
/// The same of bytes that are read for it.
std::string compare(const ExpectedSum& expected, const RecipePtr& bytes);

}  // namespace operculum::layout
