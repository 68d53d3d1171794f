#include "cli/confinement.h"
#include "cli/figures.h"
#include "cli/session.h"
#include "report/check_page.h"
#include "report/records.h"
#include "report/review_text.h"
#include "report/study_text.h"

namespace operculum::cli {
namespace {

struct StudyOptions {
  std::vector<std::string> targets;
  std::string draft, page, figures;
  bool explain = false;
};

/// What a description that is nearly right leaves open.
void review(Session& session, const StudyOptions& options, const Figures& figures) {
  const layout::Plan& plan = *session.plans.front();
  bool drawn = !options.page.empty() || figures.wanted();
  LayoutReview review = review_layout(session.plans.front(), options.targets.front(), drawn, session.context);
  session.data.write(session.json ? json_line(review) : review_text(review));
  if (!options.page.empty())
    session.write_new_file(options.page, check_page(review.trial, plan.title), "page");
  if (figures.wanted()) figures.write(session, check_figures(review.trial));
  if (!review.trial.failure.empty())
    session.raise(cannot_open);
  else if (!review.failing.empty())
    session.raise(some_failed);
}

void study_one(Session& session, const StudyOptions& options, const Figures& figures) {
  StudyReport report = study_files(options.targets, session.context);
  if (session.json)
    session.data.write(json_line(report));
  else
    session.data.write(study_text(report, options.explain));
  if (!options.page.empty()) session.write_new_file(options.page, study_page(report), "page");
  if (figures.wanted()) figures.write(session, study_figures(report));
  if (!report.findings.solved()) {
    if (!options.draft.empty())
      session.say(Session::Tone::warning, "no draft was written: there is nothing to describe");
    session.raise(some_failed);
    return;
  }
  const std::string& draft = report.findings.drafts.front().text;
  if (!options.draft.empty()) {
    session.write_new_file(options.draft, draft, "draft");
  } else if (!session.json) {
    session.data.write(Shown("\n") + Shown::lines(draft));
  }
}

}  // namespace

void add_study(CommandLine& program, Session& session) {
  Options command =
      program.command({"study",
                       "Find out how an unknown container is built, and draft a description of it",
                       {"operculum study charts.hob --draft charts.layout",
                        "operculum study winter.hob summer.hob --page study.html --explain",
                        "operculum study charts.hob --layout charts.layout"}});
  auto options = std::make_shared<StudyOptions>();
  command.arguments("FILE", options->targets,
                    "The file to study; more of the same kind tell what is the same in all");
  command.text("--draft", options->draft, "FILE",
               "Write the description to this new file, not to the terminal");
  command.text("--page", options->page, "FILE", "Write an HTML page with a map of the file to this new file");
  command.text("--figures", options->figures, "FOLDER",
               "Write the page's drawings as SVG into this new folder");
  command.flag("--explain", options->explain, "Tell what else was tried, and why it was dropped");
  command.run([&session, options] {
    prepare(session);
    Confinement confinement(session);
    confinement.reads(options->targets).makes(options->draft).makes(options->page);
    Figures figures(confinement, options->figures);
    confinement.begin();
    try {
      if (session.layouts.empty())
        study_one(session, *options, figures);
      else
        review(session, *options, figures);
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      report_error(session, options->targets.front(), error);
    }
  });
}

}  // namespace operculum::cli
