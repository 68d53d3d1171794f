#include "task/install_report.h"

#include <fmt/format.h>

#include "base/text.h"
#include "cli/confinement.h"
#include "cli/session.h"
#include "report/install_text.h"
#include "report/records.h"

namespace operculum::cli {
namespace {

struct ReportOptions {
  std::vector<std::string> targets;
  std::string page;
  bool scripts = false, removal = false;
};

void report_one(Session& session, const ReportOptions& options, const std::string& target) {
  std::vector<PackageReport> reports = report_installation(target, session.context);
  if (reports.empty())
    throw Malformed("no installer that this program knows is in it; `operculum identify` tells what it is");
  if (!options.page.empty()) {
    return session.write_new_file(options.page, install_page(reports, target), "report");
  }
  for (const PackageReport& report : reports) {
    if (session.json) {
      session.data.write(json_line(report));
    } else if (options.removal) {
      for (const std::string& path : report.removal) session.data.write(shown("{}\n", removal_line(path)));
    } else {
      session.data.write(install_text(report, options.scripts));
    }
    for (const Finding& finding : report.findings) {
      if (finding.level == Finding::Level::fault) session.raise(some_failed);
    }
  }
}

}  // namespace

void add_install_report(CommandLine& program, Session& session) {
  Options command =
      program.command({"install-report",
                       "Tell what an installer would put on a machine and run there, without running it",
                       {"operculum install-report chart-display.exe --scripts",
                        "operculum install-report chart-display.exe --page report.html"}});
  auto options = std::make_shared<ReportOptions>();
  command.arguments("TARGET", options->targets, "Installers, or what holds them");
  command.flag("--scripts", options->scripts, "With the text of scripts");
  command.text("--page", options->page, "FILE", "Write an HTML page to this new file");
  command.flag("--removal", options->removal, "Only the paths to remove by hand, one a line");
  command.at_most_one({"--page", "--removal"});
  command.run([&session, options] {
    prepare(session);
    if (!options->page.empty() && options->targets.size() > 1)
      throw UsageError{"--page takes one TARGET at a time"};
    Confinement(session).reads(options->targets).makes(options->page).begin();
    for (const std::string& target : options->targets) {
      try {
        report_one(session, *options, target);
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        session.data.flush();
        report_error(session, target, error);
      }
    }
  });
}

}  // namespace operculum::cli
