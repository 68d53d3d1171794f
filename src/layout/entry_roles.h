#pragma once

#include <deque>
#include <functional>

#include "layout/run/run.h"

namespace operculum::layout {

/// Makes entries of what a rule says of them. What a person can do without costs only itself when it cannot
/// be had: then `tell` is told a sentence.
class EntryRoles {
 public:
  EntryRoles(Run& run, std::function<void(std::string)> tell) : run_(run), tell_(std::move(tell)) {}

  /// Whether the rule lists an entry for its element. Throws where the element is damaged.
  bool selects(const EntryPlan& rule, Frame& frame);

  void fill_path(const EntryPlan& rule, Frame& frame, Entry& entry);
  void fill_kind(const EntryPlan& rule, Frame& frame, Entry& entry);
  /// Everything else, of an entry that has its path and its kind.
  void fill_rest(const EntryPlan& rule, Frame& frame, Entry& entry);

  std::vector<std::string> other_paths(const EntryPlan& rule, const Entry& entry, Frame& frame);

  /// Entries that reach beyond the end of their file; counted since the last call of forget().
  std::uint64_t beyond() const { return beyond_; }
  const std::string& first_beyond() const { return first_beyond_; }
  void forget() { beyond_ = 0; }

 private:
  template <typename Work>
  void optional_role(const NodePtr& node, std::string_view name, const Entry& entry, Work work);
  void check_element(const EntryPlan& rule, Frame& frame);
  std::string text_if(const Node& node, Frame& frame);
  void fill_optional(const EntryPlan& rule, Frame& frame, Entry& entry);
  void fill_data(const EntryPlan& rule, Frame& frame, Entry& entry);
  std::string_view method(const std::vector<const StepKind*>& steps);

  Run& run_;
  std::function<void(std::string)> tell_;
  std::deque<std::string> methods_;  // names of several steps
  Outline outline_;
  std::uint64_t beyond_ = 0;
  std::string first_beyond_;
};

/// A checksum that a role states; nothing where it is not there.
std::optional<std::uint32_t> stated_crc32(const Node& node, Frame& frame);

}  // namespace operculum::layout
