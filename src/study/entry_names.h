#pragma once

#include "study/draft_text.h"
#include "study/hypothesis.h"

namespace operculum::study {

/// What a draft calls the entries: by texts in their records or elsewhere, by number, or by the folders that
/// records are in.
class EntryNames {
 public:
  /// `in_index` is said where something is read out of the index: " in index", or nothing.
  EntryNames(const Hypothesis& found, std::string_view in_index);

  /// Adds what tells which records lie in each other, and their paths.
  void define(DraftText& text) const;
  bool by_tree() const;        ///< entries come in the order of a tree of record numbers
  bool numbered() const;       ///< entries have no names
  std::string path() const;    ///< of an entry, as an expression
  std::string folder() const;  ///< the condition under which a record is a folder; empty: there are none

 private:
  std::string own_name(std::string_view item) const;

  const Hypothesis& found_;
  std::string_view in_index_;
  bool names_come_again_;  // it takes the other text, too, to tell records apart
};

}  // namespace operculum::study
