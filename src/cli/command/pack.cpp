#include "task/pack.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/progress_line.h"
#include "cli/rebuild_options.h"
#include "report/records.h"
#include "task/output_place.h"

namespace operculum::cli {
namespace {

struct PackCommand {
  std::string folder, like, as, into, first_among, last_among;
  bool changed_only = false, dry_run = false, deterministic = true;
  PackOptions pack;

  void check() const {
    if (like.empty() == as.empty())
      throw UsageError{
          "say what it is to be: --like TARGET, or --as FORMAT (zip, tar.xz, ..., a description)"};
    if (into.empty() && !dry_run) throw UsageError{"--into NEW is needed: a file that is not there yet"};
    if (changed_only && like.empty()) throw UsageError{"--changed-only belongs to --like TARGET"};
  }
};

/// The name that the result gets in a loading folder.
void choose_name(Session& session, PackCommand& command) {
  bool first = !command.first_among.empty();
  if (!first && command.last_among.empty()) return;
  const std::string& folder = first ? command.first_among : command.last_among;
  ChosenName chosen =
      name_among(folder, std::string(base_name(command.into)), first ? Among::first : Among::last);
  command.into = folder + "/" + chosen.name;
  session.say(Session::Tone::note, fmt::format("{}: {}", escape(command.into), chosen.reason));
}

void pack_new(Session& session, const PackCommand& command) {
  PackRequest request;
  request.folder = command.folder;
  request.as = command.as;
  request.choice = command.pack.choice();
  request.into = command.into;
  request.dry_run = command.dry_run;
  RebuildResult result;
  {
    ProgressLine line(session);
    result = pack(request, session.context, session.progress);
    line.clear();
  }
  if (session.json) {
    for (const Fate& fate : result.fates) session.data.write(json_line(fate, request.dry_run));
    return session.data.write(json_line(result, request.dry_run));
  }
  session.data.write(shown("{}: {}, {}, {}\n", escape(command.into),
                           request.dry_run ? "would be written" : "written", human_size(result.new_size),
                           counted(result.fates.size(), "entry", "entries")));
}

/// The form of a container that is there, with what is in the folder.
void pack_like(Session& session, const PackCommand& command) {
  RebuildRequest request;
  request.target = command.like;
  request.from = command.folder;
  request.mirror = request.alone = true;
  request.only_changed = command.changed_only;
  request.choice = command.pack.choice();
  request.into = command.into;
  request.dry_run = command.dry_run;
  run_rebuild(session, request, Told::result);
}

}  // namespace

void add_pack(CommandLine& program, Session& session) {
  Options command = program.command(
      {"pack",
       "Make a new container of what is in a folder, in the form of one that is there or from scratch",
       {"operculum pack new-textures --like tidepool.skin --changed-only --into override.skin",
        "operculum pack gauge-logs --as tar.xz --into gauge-logs.tar.xz"}});
  auto options = std::make_shared<PackCommand>();
  command.argument("FOLDER", options->folder, "What goes in");
  command.text("--like", options->like, "TARGET",
               "Packed as this container is: order, methods, attributes, alignment, key");
  command.text("--as", options->as, "FORMAT",
               "From scratch: zip, tar, cpio, ar, gzip, ..., tar.xz, or a description (its name or file)");
  command.text("--into", options->into, "NEW", "The file to be written");
  command.flag("--changed-only", options->changed_only,
               "With --like: only what is not the same there, as a small pack that goes over it");
  command.text("--first-among", options->first_among, "DIR",
               "Put it into this folder under a name that sorts in front of all that are there");
  command.text("--last-among", options->last_among, "DIR", "The same, behind all that are there");
  command.flag("--deterministic", options->deterministic,
               "The same files give the same bytes: they go by their paths (always so)");
  options->pack.add_to(command);
  command.flag("--dry-run", options->dry_run, "Tell what would be in it and its size, write nothing");
  command.at_most_one({"--like", "--as"});
  command.at_most_one({"--first-among", "--last-among"});
  command.run([&session, options] {
    options->check();
    options->as = word_for_format(session, options->as);
    prepare(session);
    try {
      choose_name(session, *options);
      Confinement confinement(session);
      confinement.reads(options->folder).reads(options->like);
      if (!options->dry_run) confinement.makes(options->into);
      confinement.begin();
      if (options->like.empty()) {
        pack_new(session, *options);
      } else {
        pack_like(session, *options);
      }
    } catch (const std::exception& thrown) {
      report_error(session, options->like.empty() ? options->folder : options->like, as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
