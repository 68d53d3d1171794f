#pragma once

#include <string>
#include <unordered_map>
#include <vector>

#include "base/text_marks.h"
#include "io/safe_path.h"

namespace operculum {

/// Gives every entry a path of its own beneath the output folder. The first to ask for a path gets it; a
/// later one gets a numbered name, unless the container means it to replace the earlier one.
class OutputNames {
 public:
  enum class Duplicates { numbered, replace };

  enum class Letters { as_stored, small };
  explicit OutputNames(NameRules rules, Letters letters = Letters::as_stored)
      : rules_(rules), letters_(letters) {}

  struct Given {
    std::string path;       ///< empty: refused
    std::string remark;     ///< what was changed and why; empty when nothing
    bool replaces = false;  ///< an earlier entry had this path; it is to be replaced
  };
  Given file(std::string_view stored, Duplicates duplicates);
  Given folder(std::string_view stored);

  /// The path that `stored` was given, when it was asked for and was not renamed afterwards; empty otherwise.
  std::string given_to(std::string_view stored) const;

 private:
  enum Kind : TextMarks::Mark { none, file_name, folder_name };

  /// The folders above the last part, renamed where a file is in the way. Adds to the remark.
  std::string place_parents(const std::string& path, std::string& remark);
  std::string place_folder(const std::string& path, std::string& remark);
  std::string free_name(const std::string& path);
  std::string key(const std::string& path) const;

  SafePath safe(std::string_view stored) const;

  /// Whether two stored paths may get the same one although they are two.
  bool changes_names() const { return rules_ == NameRules::portable || letters_ == Letters::small; }
  static std::string meaning(std::string_view stored);
  void note_owner(const std::string& path, std::string_view stored);
  bool is_owner(const std::string& path, std::string_view stored) const;
  std::string own_again(std::string_view stored) const;

  NameRules rules_;
  Letters letters_;
  TextMarks taken_;                                       // kinds by key
  std::unordered_map<std::string, std::string> moved_;    // folders that got another name
  std::unordered_map<std::string, std::string> renamed_;  // stored paths whose output path is another
  std::unordered_map<std::string, unsigned> numbers_;     // the number given last to a name, by key
  std::unordered_map<std::string, std::string> owners_;  // what a path stands for, by key; where names change
  std::string last_parent_, last_placed_;
};

}  // namespace operculum
