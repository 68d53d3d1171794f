#include <clocale>
#include <csignal>
#include <new>

#include "cli/session.h"

namespace {

constexpr const char* kAbout =
    "Opens what nothing else opens: tells what a file really is, lists what is inside, and takes out what "
    "you need,\n"
    "through any number of containers inside each other.\n\n"
    "A TARGET is a file, or a path that goes on into containers: card.img/kiosk.zip/textures/crab.png";

int run(int argc, char** argv) {
  using namespace operculum::cli;
  Session session;
  CLI::App app{kAbout, "operculum"};
  app.set_version_flag("--version", "operculum " OPERCULUM_VERSION);
  app.require_subcommand(1);
  app.fallthrough();
  app.get_formatter()->column_width(34);
  add_common_options(app, session);
  add_identify(app, session);
  add_list(app, session);
  add_show(app, session);
  add_unpack(app, session);
  add_discard(app, session);
  add_verify(app, session);
  add_formats(app, session);
  add_mount(app, session);
  add_install_report(app, session);
  add_layout(app, session);
  try {
    app.parse(argc, argv);
    session.data.flush();
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? success : usage;
  } catch (const operculum::Error& error) {
    session.say(Session::Tone::error, error.what());
    return exit_code_of(error.kind());
  } catch (const std::bad_alloc&) {
    session.say(Session::Tone::error, "there is not enough memory for this");
    return limit_reached;
  }
  if (session.progress.stop) {
    session.say(Session::Tone::warning, "interrupted; what was finished stays");
    return interrupted;
  }
  return session.exit_code;
}

}  // namespace

int main(int argc, char** argv) {
  std::setlocale(LC_CTYPE, "C.UTF-8");  // for the width of characters
  std::signal(SIGPIPE, SIG_IGN);
  return run(argc, argv);
}
