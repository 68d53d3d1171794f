#pragma once

#include "cli/session.h"
#include "sandbox/sandbox.h"

namespace operculum::cli {

/// What a command will touch of the machine, collected before it begins; then everything else is given up.
/// What each command may do is listed in docs/security.md.
class Confinement {
 public:
  explicit Confinement(Session& session);

  /// What a locator begins with, and what lies beside it, where its further parts are; a folder with all in
  /// it.
  Confinement& reads(const std::string& target);
  Confinement& reads(const std::vector<std::string>& targets);
  /// Of files that lie in what is read already, those that are links to elsewhere.
  Confinement& reads_links(const std::vector<std::string>& files);
  /// A file alone, not what lies beside it.
  Confinement& reads_file(const std::string& path);
  /// A catalogue, which is a database with files of its own beside it; passed over when the name is empty.
  Confinement& asks(const std::string& database);
  /// An existing folder in which anything may change.
  Confinement& changes(const std::string& folder);
  /// The folder of a file that is to be written; passed over when the name is empty.
  Confinement& makes(const std::string& new_file);
  /// The folder that holds `folder`, which was made for this run and goes again when nothing comes into it.
  Confinement& takes_back(const std::string& folder);

  Rights& rights() { return rights_; }

  /// From here on nothing else can be reached; or, with --no-sandbox, it is said that everything can.
  void begin();

 private:
  void add_program_files();

  Session& session_;
  Rights rights_;
};

/// Where links lead; the path itself when that is nowhere.
std::string real_path_of(const std::string& path);

/// The sentences about what protects a run, for --verbose and `operculum doctor`.
std::string confinement_text(const Enforced& enforced);

}  // namespace operculum::cli
