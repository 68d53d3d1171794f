#include "cli/rebuild_options.h"

namespace operculum::cli {
namespace {

struct RebuildOptions {
  RebuildRequest request;
  std::vector<std::string> set, add, remove, rename;
  PackOptions pack;
  bool in_place = false;

  void finish() {
    for (const std::string& one : set) request.wishes.push_back(wish_of(Wish::Kind::set, one, "--set"));
    for (const std::string& one : rename)
      request.wishes.push_back(wish_of(Wish::Kind::rename, one, "--rename"));
    for (const std::string& one : add) request.wishes.push_back(wish_of(Wish::Kind::add, one, "--add"));
    for (const std::string& one : remove) request.wishes.push_back({Wish::Kind::remove, one, ""});
    request.choice = pack.choice();
    if (request.into.empty() == !in_place && !request.dry_run)
      throw UsageError{
          "say where the result goes: --into NEW, or --in-place, which keeps the original beside it"};
    if (request.mirror && request.from.empty()) throw UsageError{"--mirror belongs to --from FOLDER"};
  }
};

}  // namespace

void add_rebuild(CommandLine& program, Session& session) {
  Options command =
      program.command({"rebuild",
                       "Put changes back: a container as it was, except for what is named",
                       {"operculum rebuild kiosk.zip --set labels/crab.txt=crab.txt --into kiosk-new.zip",
                        "operculum rebuild card.tar.xz/opt/kiosk/kiosk.zip --from kiosk --in-place --receipt "
                        "taken-back.json"}});
  auto options = std::make_shared<RebuildOptions>();
  RebuildRequest& request = options->request;
  command.argument("TARGET", request.target,
                   "A container, also one in others: it is rebuilt, and each one around it");
  command.texts("--set", options->set, "PATH=FILE", "Give an entry the content of a file");
  command.texts("--add", options->add, "PATH=FILE", "Put in a file or folder that is not there yet");
  command.texts("--remove", options->remove, "PATH", "Take an entry or folder out");
  command.texts("--rename", options->rename, "OLD=NEW", "Give an entry or folder another path");
  command.text("--from", request.from, "FOLDER",
               "Set all that differs in a folder of the same shape, and add what is new there");
  command.flag("--mirror", request.mirror, "With --from: remove what is missing in the folder");
  command.flag(
      "--trim", request.trim,
      "Leave out filling between and behind entries where the format does without it; identify tells "
      "beforehand what that saves");
  command.flag("--update-sums", request.update_sums,
               "Of a Debian package: let its md5sums tell of the data as it is then");
  options->pack.add_to(command);
  command.group("the result");
  command.text("--into", request.into, "NEW", "Write it to this new file");
  command.flag("--in-place", options->in_place,
               "Put it where the original is, which is kept beside it as NAME.before");
  command.text("--receipt", request.receipt, "FILE", "Write what discard needs to take it back");
  command.flag("--quick", request.quick, "Before it gets its name, compare what changed alone");
  command.flag("--dry-run", request.dry_run, "Tell each entry's fate and the new size, write nothing");
  command.at_most_one({"--into", "--in-place"});
  command.run([&session, options] {
    options->finish();
    prepare(session);
    confine_rebuild(session, options->request);
    try {
      run_rebuild(session, options->request);
    } catch (const std::exception& thrown) {
      report_error(session, options->request.target, as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
