#include "task/convert.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/progress_line.h"
#include "cli/rebuild_options.h"
#include "report/records.h"
#include "task/make_file.h"

namespace operculum::cli {
namespace {

struct ConvertOptions {
  ConvertRequest request;
  PackOptions pack;
  bool strict = false;
};

/// "ZIP archive", or the word itself where it names several formats.
std::string name_of_target(const std::string& as, const OpenContext& context) {
  FileToMake what = formats_of(as, context);
  return what.container != nullptr && what.codecs.empty() ? std::string(what.container->name) : escape(as);
}

void convert_one(Session& session, const ConvertOptions& options) {
  const ConvertRequest& request = options.request;
  bool refused = false;
  auto tell_losses = [&](const Losses& losses) {
    refused = options.strict;
    session.say(
        refused ? Session::Tone::error : Session::Tone::warning,
        fmt::format("{}: {} cannot keep: {}{}", escape(request.target),
                    with_article(name_of_target(request.as, session.context)), fmt::join(losses, "; "),
                    refused ? "; nothing is written, as --strict asks" : ""));
    return !refused;
  };
  RebuildResult result;
  {
    ProgressLine line(session);
    result = convert(request, session.context, session.progress, [&](const Losses& losses) {
      line.clear();
      return tell_losses(losses);
    });
    line.clear();
  }
  if (refused) return session.raise(some_failed);
  if (session.json) return session.data.write(json_line(result, request.dry_run));
  std::string entries = result.fates.empty() ? "" : ", " + counted(result.fates.size(), "entry", "entries");
  std::string size = result.new_size == 0 ? "" : ", " + human_size(result.new_size);
  session.data.write(shown("{}: {}{}{}\n", escape(request.into),
                           request.dry_run ? "would be written" : "written", size, entries));
}

}  // namespace

void add_convert(CommandLine& program, Session& session) {
  Options command =
      program.command({"convert",
                       "Make a file of an open format of what a container holds",
                       {"operculum convert tidepool.shoal --as zip --into tidepool.zip",
                        "operculum convert exhibit-7.tar.xz --as tar.zst --into exhibit-7.tar.zst"}});
  auto options = std::make_shared<ConvertOptions>();
  ConvertRequest& request = options->request;
  command.argument("TARGET", request.target, "A container, or a folder in one");
  command.text("--as", request.as, "FORMAT",
               "zip, tar, cpio, ar, tar.xz, ..., xz or another codec alone; raw, qcow2 or vhd for disks; a "
               "description (its name or file)");
  command.text("--into", request.into, "NEW", "The file to be written");
  command.flag("--strict", options->strict, "Write nothing when something cannot be kept");
  options->pack.add_to(command);
  command.flag("--dry-run", request.dry_run, "Tell what would not be kept, write nothing");
  command.run([&session, options] {
    const ConvertRequest& wanted = options->request;
    if (wanted.as.empty()) throw UsageError{"--as FORMAT is needed: zip, tar.xz, ..."};
    if (wanted.into.empty() && !wanted.dry_run)
      throw UsageError{"--into NEW is needed: a file that is not there yet"};
    options->request.choice = options->pack.choice();
    options->request.as = word_for_format(session, wanted.as);
    prepare(session);
    Confinement(session).reads(wanted.target).makes(wanted.into).begin();
    try {
      convert_one(session, *options);
    } catch (const std::exception& thrown) {
      report_error(session, wanted.target, as_error(thrown));
    }
  });
}

}  // namespace operculum::cli
