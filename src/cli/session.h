#pragma once

#include <atomic>
#include <map>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "cli/exit_code.h"
#include "cli/options.h"
#include "cli/output.h"
#include "container/format.h"
#include "layout/library.h"
#include "task/progress.h"

namespace operculum::cli {

/// When long work shows how far it is.
enum class ProgressShown {
  lasting,  ///< on a terminal, once the work has lasted a while
  always,   ///< from the start, terminal or not
  never,
};

/// Options that every command takes, and what a run carries along.
struct Session {
  bool json = false;
  bool quiet = false;
  bool verbose = false;
  ProgressShown progress_shown = ProgressShown::lasting;
  std::string output;  ///< --output; empty: standard output
  std::string password_file;
  std::vector<std::string> key_files;
  std::string luks_header, hash_tree, root_hash;
  std::string config_folder;                               ///< operculum's folder beneath XDG_CONFIG_HOME
  std::vector<std::string> layouts;                        ///< --layout
  std::vector<std::shared_ptr<const layout::Plan>> plans;  ///< what these say
  std::vector<std::string> known_names;                    ///< --known-names
  bool search = false;                                     ///< --search
  std::string parts;                                       ///< --parts
  std::string pages;                                       ///< --pages
  bool give_keys = false;                                  ///< --give-keys
  bool no_sandbox = false;                                 ///< --no-sandbox
  std::mutex given_keys_mutex;                             ///< guards given_keys
  std::map<std::pair<std::string, std::string>, bool>
      given_keys;  ///< what was answered, by description and key

  OpenContext context;
  Progress progress;
  std::atomic<bool> asking{false};  ///< a question stands on the terminal: progress must not draw over it
  Output data;                      ///< data goes here: standard output or --output
  int exit_code = success;

  /// A sentence on standard error, such as "operculum: warning: ...". Notes are not shown when quiet.
  enum class Tone { note, warning, error };
  void say(Tone tone, const std::string& sentence) const;

  /// Writes a text to a file that must not exist yet, and says what is in it. Throws IoError.
  void write_new_file(const std::string& path, std::string_view text, std::string_view what) const;

  /// The descriptions in the configuration folder and the installed share, read when they are first wanted.
  layout::Library& library();

  /// The folders in which descriptions are looked for.
  std::vector<std::string> layout_folders() const;

  /// A description that the user named: their own when it lies where theirs or the program's do. Throws
  /// IoError.
  layout::Found read_layout(const std::string& path) const;

  /// The path of a description that is named as a file, or as `layout list` tells.
  std::string layout_path(const std::string& file_or_name);

  /// Says which descriptions in the folders cannot be used; the first time that it is called.
  void tell_broken_layouts();

  /// The text of a description, for messages about it.
  static layout::Description description_of(const std::string& path);

  /// Raises the exit code: a worse one stays.
  void raise(int code) {
    if (exit_code == success) exit_code = code;
  }

 private:
  std::optional<layout::Library> library_;
  bool broken_layouts_told_ = false;
};

/// Reads keys and configuration and opens the output; called once the command line is known. Throws Error.
void prepare(Session& session);

/// Adds the options that belong to every command.
void add_common_options(CommandLine& program, Session& session);

/// What is said of a target, whose name stands in front of it once.
std::string about(const std::string& target, const std::string& text);

/// Turns an Error into a message and an exit code.
void report_error(Session& session, const std::string& target, const Error& error);

// One function a command: adds it to the program. Each is in the file of its name.
void add_identify(CommandLine& program, Session& session);
void add_list(CommandLine& program, Session& session);
void add_show(CommandLine& program, Session& session);
void add_unpack(CommandLine& program, Session& session);
void add_discard(CommandLine& program, Session& session);
void add_verify(CommandLine& program, Session& session);
void add_rebuild(CommandLine& program, Session& session);
void add_edit(CommandLine& program, Session& session);
void add_pack(CommandLine& program, Session& session);
void add_convert(CommandLine& program, Session& session);
void add_doctor(CommandLine& program, Session& session);
void add_formats(CommandLine& program, Session& session);
void add_mount(CommandLine& program, Session& session);
void add_install_report(CommandLine& program, Session& session);
void add_compare(CommandLine& program, Session& session);
void add_find(CommandLine& program, Session& session);
void add_order(CommandLine& program, Session& session);
void add_catalogue(CommandLine& program, Session& session);
void add_layout(CommandLine& program, Session& session);
void add_study(CommandLine& program, Session& session);

}  // namespace operculum::cli
