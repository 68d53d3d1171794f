#pragma once

#include "layout/rewrite/rows.h"

namespace operculum::layout {

/// A text of the container that an entry's path may come from, and what it would have to be.
struct NamePart {
  const TextRead* read;
  std::string text;
};

/// The texts that are the path, its name, the name without its ending, or its folder, of which the new one
/// differs in nothing else; each
/// place once for each number that it may have been found by.
std::vector<NamePart> name_parts(const Survey& survey, const std::string& before, const std::string& after);

/// Bytes that become others so that a text is another one.
struct TextEdit {
  std::uint64_t from = 0, to = 0;
  Bytes with;
  std::vector<NumberChange> numbers;
  Bytes behind;  ///< what comes to the end of the file, where a number leads to it
};

/// The ways in which that can be, likeliest first; none where it has no room or cannot be written so.
std::vector<TextEdit> edits_of(const Survey& survey, const NamePart& part);

/// Numbers that are hashes of the path become those of the new one: by each hash that fits one.
std::vector<std::vector<NumberChange>> hash_changes(const Survey& survey, const std::string& before,
                                                    const std::string& after);

/// The numbers that were read last before something was gone to, the last one first: one of them may lead
/// there.
std::vector<NumberRead> numbers_before(const Survey& survey, std::size_t count);

}  // namespace operculum::layout
