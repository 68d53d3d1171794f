#include <fmt/format.h>

#include <cerrno>
#include <filesystem>

#include "base/text.h"
#include "cli/fuse_view.h"
#include "cli/session.h"
#include "cli/signals.h"

namespace operculum::cli {
namespace {

constexpr Choice<Enter> kEnter[] = {{"named", Enter::named}, {"all", Enter::all}, {"none", Enter::none}};

struct MountOptions {
  std::string target, folder;
  bool foreground = false;
  Enter enter = Enter::named;
};

void mount_view(Session& session, const MountOptions& options) {
  const std::string &target = options.target, &folder = options.folder;
  Place place = resolve(target, session.context, Step::into);
  if (!place.is_container())
    throw Malformed(no_container_text(place, "; `operculum identify` tells what it is"));
  if (!std::filesystem::is_directory(folder)) throw IoError(escape(folder), ENOTDIR);
  if (!std::filesystem::is_empty(folder))
    throw IoError(fmt::format("{} is not empty", escape(folder)), ENOTEMPTY);
  ViewTree view(place, session.context, options.enter);
  leave_signals_alone();  // libfuse has handlers of its own, which take the view away
  FuseView mounted(view, std::filesystem::absolute(folder).string(),
                   std::filesystem::path(place.file).filename().string());
  session.say(Session::Tone::note,
              fmt::format("{} can be seen in {}, read-only; `fusermount3 -u {}` takes it away",
                          escape(target), escape(folder), shell_word(folder)));
  mounted.serve(options.foreground);
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
  command.choice<Enter>("--enter", options->enter, kEnter,
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
