#include "task/verify.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/progress_line.h"
#include "cli/selection_options.h"
#include "cli/session.h"
#include "report/records.h"

namespace operculum::cli {
namespace {

struct VerifyOptions {
  std::vector<std::string> targets;
  SelectionOptions selection;
  VerifyRequest request;
};

void verify_one(Session& session, VerifyOptions& options, const std::string& target) {
  Place place = resolve(target, session.context, Step::into);
  if (place.layers.empty())
    throw Malformed("it is no container that this program knows, so there is nothing to verify");
  options.request.selection = options.selection.selection(place.entry ? "" : place.inside);
  ProgressLine line(session);
  VerifyTotals totals =
      verify(place, options.request, session.context, session.progress, [&](const Fault& fault) {
        line.clear();
        if (session.json) {
          session.data.write(json_line(fault));
        } else if (fault.level != Finding::Level::note || !session.quiet) {
          std::string path = fault.path.empty() ? target : fault.path;
          session.data.write(fmt::format(
              "{}: {}{}\n", escape(path),
              fault.level == Finding::Level::fault ? "" : fmt::format("{}: ", name_of(fault.level)),
              fault.message));
        }
      });
  line.clear();
  if (totals.faults > 0) session.raise(totals.key_needed ? key_needed : some_failed);
  if (session.json) {
    session.data.write(json_line(totals));
    return;
  }
  std::string without =
      totals.with_checksum == totals.entries ? "every one has a checksum and it is right"
      : totals.with_checksum == 0
          ? "none has a checksum, they could only be decoded"
          : fmt::format("{} of them have a checksum, and it is right; the others could only be decoded",
                        grouped(totals.with_checksum));
  session.data.write(
      fmt::format("{}: {} decoded ({}); {}. {}\n", escape(target), counted(totals.entries, "file", "files"),
                  human_size(totals.bytes), totals.entries == 0 ? "there was nothing to compare" : without,
                  totals.faults == 0 ? "No faults." : counted(totals.faults, "fault.", "faults.")));
}

}  // namespace

void add_verify(CommandLine& program, Session& session) {
  Options command =
      program.command({"verify",
                       "Decode everything, check every checksum and size, write nothing",
                       {"operculum verify gauge-logs.zip", "operculum verify --deep exhibit-7.tar.xz"}});
  auto options = std::make_shared<VerifyOptions>();
  command.arguments("TARGET", options->targets, "Containers, folders or entries in them");
  command.flag("--deep", options->request.deep, "Into nested containers, too");
  command.number("--jobs", options->request.jobs, "Threads (0: one for each processor)");
  options->selection.add_to(command, SelectionOptions::With::patterns);
  command.run([&session, options] {
    prepare(session);
    for (const std::string& target : options->targets) {
      try {
        verify_one(session, *options, target);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        report_error(session, target, error);
      }
    }
  });
}

}  // namespace operculum::cli
