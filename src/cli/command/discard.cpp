#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/session.h"
#include "report/records.h"
#include "task/receipt.h"

namespace operculum::cli {
namespace {

constexpr std::string_view word_of(DiscardEvent::Kind kind) {
  switch (kind) {
    case DiscardEvent::Kind::removed:
      return "removed";
    case DiscardEvent::Kind::changed:
      return "changed";
    case DiscardEvent::Kind::missing:
      return "missing";
    case DiscardEvent::Kind::failed:
      return "failed";
  }
  return "unknown";
}

}  // namespace

void add_discard(CLI::App& app, Session& session) {
  CLI::App* command = app.add_subcommand(
      "discard", "Take back an unpack: remove the files of its receipt that are unchanged");
  auto path = std::make_shared<std::string>();
  auto dry_run = std::make_shared<bool>(false);
  command->add_option("RECEIPT", *path, "The file that unpack --receipt wrote")->required();
  command->add_flag("--dry-run", *dry_run, "Say what would be removed, remove nothing");
  command->callback([&session, path, dry_run] {
    prepare(session);
    try {
      Receipt receipt = Receipt::read(*path);
      DiscardTotals totals = discard(receipt, *dry_run, [&](const DiscardEvent& event) {
        if (session.json) {
          Json record = {{"record", word_of(event.kind)}, {"path", escape(event.path)}};
          if (!event.message.empty()) record["message"] = event.message;
          session.data.write(json_line(record));
        } else if (event.kind != DiscardEvent::Kind::removed || session.verbose || *dry_run) {
          std::string_view text = event.kind == DiscardEvent::Kind::removed
                                      ? (*dry_run ? "would be removed" : "removed")
                                      : std::string_view(event.message);
          session.data.write(fmt::format("{}: {}\n", escape(event.path), text));
        }
      });
      if (totals.failed > 0 || totals.changed > 0) session.raise(some_failed);
      if (session.json) {
        session.data.write(json_line({{"record", "totals"},
                                      {"dry_run", *dry_run},
                                      {"removed", totals.removed},
                                      {"changed", totals.changed},
                                      {"missing", totals.missing},
                                      {"failed", totals.failed}}));
      } else {
        session.data.write(
            fmt::format("{}: {} {}, {} changed since and kept, {} missing\n", escape(receipt.folder),
                        counted(totals.removed, "file or link", "files and links"),
                        *dry_run ? "would be removed" : "removed", totals.changed, totals.missing));
      }
    } catch (const Error& error) {
      report_error(session, *path, error);
    }
  });
}

}  // namespace operculum::cli
