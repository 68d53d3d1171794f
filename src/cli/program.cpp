#include "cli/program.h"

#include <clocale>
#include <csignal>

#include "cli/signals.h"

namespace operculum::cli {
namespace {

constexpr const char* kAbout =
    "Opens what nothing else opens: tells what a file really is, lists what is inside, and takes out what "
    "you need, "
    "through any number of containers inside each other.";

void add_commands(CommandLine& program, Session& session) {
  add_common_options(program, session);
  add_identify(program, session);
  add_list(program, session);
  add_show(program, session);
  add_unpack(program, session);
  add_discard(program, session);
  add_verify(program, session);
  add_rebuild(program, session);
  add_edit(program, session);
  add_pack(program, session);
  add_convert(program, session);
  add_formats(program, session);
  add_mount(program, session);
  add_install_report(program, session);
  add_study(program, session);
  add_compare(program, session);
  add_find(program, session);
  add_order(program, session);
  add_catalogue(program, session);
  add_layout(program, session);
  add_doctor(program, session);
}

}  // namespace

std::unique_ptr<CommandLine> make_command_line(Session& session) {
  auto program = std::make_unique<CommandLine>(kAbout, "operculum " OPERCULUM_VERSION);
  add_commands(*program, session);
  return program;
}

int run_program(Session& session, const std::vector<std::string>& arguments) {
  auto program = make_command_line(session);
  try {
    auto [text, command] = program->read(arguments);
    if (command)
      command();
    else
      session.data.write(Shown::lines(text));
    session.data.finish();
  } catch (const UsageError& error) {
    session.say(Session::Tone::error, error.sentence);
    return usage;
  } catch (const std::exception& thrown) {
    Error error = as_error(thrown);
    session.say(Session::Tone::error, error.what());
    return exit_code_of(error.kind());
  }
  if (session.progress.stop) {
    session.say(Session::Tone::warning, "interrupted; what was finished stays");
    return 128 + signal_received();
  }
  return session.exit_code;
}

void prepare_process() {
  handle_signals();
  tell_crashes();
  std::setlocale(LC_CTYPE, "C.UTF-8");  // for the width of characters
  std::signal(SIGPIPE, SIG_IGN);
}

}  // namespace operculum::cli
