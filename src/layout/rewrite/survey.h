#pragma once

#include "layout/rewrite/blocks.h"
#include "layout/rewrite/number_finder.h"
#include "layout/rewrite/on_trial.h"

namespace operculum::layout {

/// What is known of a described container before anything in it changes; found out once, however many ways of
/// writing it are tried.
struct Survey {
  explicit Survey(const DescribedFile& file);
  Survey(const Survey&) = delete;
  Survey& operator=(const Survey&) = delete;

  /// Where in `looks` and `extents` a part of DescribedFile::parts is found: behind all entries.
  std::size_t index_of_part(std::size_t part) const { return looks.size() - file.parts.size() + part; }

  bool is_part(std::size_t index) const { return index >= index_of_part(0); }

  /// Throws Unsupported with what is written in front of it.
  [[noreturn]] void fail(const std::string& what) const;

  const DescribedFile& file;
  Recorder head;  ///< what was read until all entries were listed
  OnTrial container;
  std::vector<EntryLook>
      looks;  ///< of all entries, then of parts; of damaged ones and those without data nothing
  std::vector<Extent> extents;  ///< likewise, of a part where its packed bytes lie
  NumberFinder finder;

 private:
  void look_at_parts();
};

}  // namespace operculum::layout
