#include "task/discard.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/session.h"
#include "report/records.h"

namespace operculum::cli {
namespace {

void tell(Session& session, const DiscardEvent& event, bool dry_run) {
  if (session.json) return session.data.write(json_line(event));
  bool removed = event.kind == DiscardEvent::Kind::removed;
  if (removed && !session.verbose && !dry_run) return;
  std::string_view text = !removed  ? std::string_view(event.message)
                          : dry_run ? "would be removed"
                                    : "removed";
  session.data.write(shown("{}: {}\n", escape(event.path), text));
}

}  // namespace

void add_discard(CommandLine& program, Session& session) {
  Options command = program.command(
      {"discard",
       "Take back an unpack: remove the files of its receipt that are unchanged",
       {"operculum discard textures-receipt.json", "operculum discard --dry-run textures-receipt.json"}});
  auto path = std::make_shared<std::string>();
  auto dry_run = std::make_shared<bool>(false);
  command.argument("RECEIPT", *path, "The file that unpack --receipt wrote");
  command.flag("--dry-run", *dry_run, "Say what would be removed, remove nothing");
  command.run([&session, path, dry_run] {
    prepare(session);
    try {
      Receipt receipt = Receipt::read(*path);
      Confinement confinement(session);
      if (!*dry_run) confinement.changes(receipt.folder).takes_back(receipt.folder);
      confinement.reads(receipt.folder).begin();
      DiscardTotals totals =
          discard(receipt, *dry_run, [&](const DiscardEvent& event) { tell(session, event, *dry_run); });
      bool nothing = totals.removed == 0 && totals.missing > 0;
      if (totals.failed > 0 || totals.changed > 0 || nothing) session.raise(some_failed);
      if (session.json) return session.data.write(json_line(totals, *dry_run));
      session.data.write(shown("{}: {} {}, {} changed since and kept, {} missing{}\n", escape(receipt.folder),
                               counted(totals.removed, "file or link", "files and links"),
                               *dry_run ? "would be removed" : "removed", totals.changed, totals.missing,
                               totals.returned > 0
                                   ? fmt::format(", {} that had been replaced {}", totals.returned,
                                                 *dry_run               ? "would be back"
                                                 : totals.returned == 1 ? "is back"
                                                                        : "are back")
                                   : ""));
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      report_error(session, *path, error);
    }
  });
}

}  // namespace operculum::cli
