#pragma once

#include <string>

#include "base/shown.h"
#include "report/figure.h"
#include "task/study_file.h"

namespace operculum {

/// For a terminal: what the file seems to be built like, the evidence as a table, what stays open.
/// `alternatives` adds what else was tried, and why it was dropped.
Shown study_text(const StudyReport& report, bool alternatives);

/// A page of HTML that needs nothing else: a map of the file, the evidence, the draft.
std::string study_page(const StudyReport& report);

/// The page's drawings, each alone.
std::vector<Figure> study_figures(const StudyReport& report);

/// What the file seems to be built like, in a few sentences.
Shown study_summary(const StudyReport& report);

}  // namespace operculum
