#include <fmt/format.h>

#include <cerrno>
#include <filesystem>

#include "base/text.h"
#include "cli/confinement.h"
#include "cli/fuse_view.h"
#include "cli/session.h"
#include "cli/signals.h"
#include "container/outer_file.h"
#include "io/http_client.h"
#include "sandbox/deputy.h"
#include "task/output_place.h"

namespace operculum::cli {
namespace {

constexpr Choice<Enter> kEntered[] = {{"named", Enter::named}, {"all", Enter::all}, {"none", Enter::none}};

struct MountOptions {
  std::string target, folder;
  bool foreground = false;
  Enter enter = Enter::named;
};

/// From the root, for what runs in the background has no folder of its own; standard input and URLs as they
/// are.
std::string from_root(const std::string& target) {
  std::string file = file_of(target);
  return file.empty() || file == "-" || is_url(target) ? target : absolute_path(target);
}

/// The view is mounted first, for that needs rights that are given up before the container is read. It is
/// taken away by a process that keeps them, whatever becomes of this one.
void mount_view(Session& session, const MountOptions& options) {
  const std::string& folder = options.folder;
  if (!std::filesystem::is_directory(folder)) throw IoError(escape(folder), ENOTDIR);
  if (!std::filesystem::is_empty(folder))
    throw IoError(fmt::format("{} is not empty", escape(folder)), ENOTEMPTY);
  if (file_of(options.target).empty()) throw IoError("cannot open it", ENOENT);
  std::string target = from_root(options.target);
  std::string place_in_tree = std::filesystem::canonical(folder).string();
  Confinement confinement(session);
  confinement.reads(target).rights().fork = true;
  Deputy deputy([&place_in_tree] { return unmount_view(place_in_tree); }, Deputy::Unasked::duty);
  FuseView mounted(place_in_tree, std::filesystem::path(file_of(target)).filename().string(),
                   [&deputy] { deputy.ask(); });
  confinement.begin();
  Place place = resolve(target, session.context, Step::into);
  if (!place.is_container())
    throw Malformed(no_container_text(place, "; `operculum identify` tells what it is"));
  ViewTree view(place, session.context, options.enter);
  leave_signals_alone();  // libfuse has handlers of its own, which take the view away
  session.say(Session::Tone::note,
              fmt::format("{} can be seen in {}, read-only; `fusermount3 -u {}` takes it away",
                          escape(options.target), escape(folder), shell_word(folder)));
  if (mounted.serve(view, options.foreground)) deputy.excuse();
}

}  // namespace

void add_mount(CommandLine& program, Session& session) {
  Options command = program.command(
      {"mount",
       "Show what is inside in a folder, read-only, nested containers as folders",
       {"operculum mount exhibit-card.qcow2 view", "operculum mount --foreground exhibit-7.tar.xz view"}});
  auto options = std::make_shared<MountOptions>();
  command.argument("TARGET", options->target, "A container, or a folder in one");
  command.argument("FOLDER", options->folder, "An empty folder");
  command.choice<Enter>("--enter", options->enter, kEntered,
                        "Which files are shown as folders when they are containers: those whose names say "
                        "that several files are in them (the "
                        "default), all, or none");
  command.flag("--foreground", options->foreground, "Stay until the view is taken away, or until a signal");
  command.run([&session, options] {
    prepare(session);
    try {
      mount_view(session, *options);
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      report_error(session, options->target, error);
    }
  });
}

}  // namespace operculum::cli
