#pragma once

#include <string>

#include "container/format.h"
#include "layout/compile.h"

namespace operculum::layout {

/// A description found in a folder.
struct Found {
  std::string path;
  Compiled compiled;
};

/// Whose a description is: the user's and the program's own are given keys without a question.
enum class Trust { own, stranger };

/// Descriptions from files: those that the user names, and those in folders, where the first of one name
/// wins.
class Library {
 public:
  /// Reads and compiles a file, with the list of known names beside it when it asks for one. Throws IoError;
  /// what is wrong in it is in Compiled::problems.
  static Found read(const std::string& path, Trust trust = Trust::stranger);

  /// Adds every *.layout in the folder, sorted by name; nothing when there is no such folder.
  void add_folder(const std::string& folder);

  const std::vector<Found>& all() const { return all_; }
  const Found* find(const std::string& name) const;  ///< by file name without its ending
  std::span<const Format> formats();                 ///< of those without errors

 private:
  std::vector<Found> all_;
  std::vector<Format> formats_;
};

/// The file name without folders and ".layout".
std::string layout_name(const std::string& path);

/// Lines of a file of known names: one path each; empty lines and those that begin with # are passed over.
std::vector<std::string> read_names(const std::string& path);

}  // namespace operculum::layout
