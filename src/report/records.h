#pragma once

#include "base/shown.h"
#include "layout/library.h"
#include "layout/text/problem.h"
#include "task/checkup.h"
#include "task/discard.h"
#include "task/identify.h"
#include "task/install_report.h"
#include "task/layout_check.h"
#include "task/layout_review.h"
#include "task/list.h"
#include "task/rebuild.h"
#include "task/study_file.h"
#include "task/summary.h"
#include "task/unpack.h"
#include "task/verify.h"

namespace operculum {

// The records of --json, one object a line, with its line end; docs/output.md documents each field. Text that
// is no UTF-8, and control characters, appear as escape() writes them.

/// `container` is the target that holds it, where there are several; `digest` the result of `sum`, where one
/// was asked for.
Shown json_line(const Found& found, const std::string& container = {}, const std::string& sum = {},
                const std::string& digest = {});
Shown json_line(const Identification& identification);
Shown json_line(const UnpackEvent& event);
Shown json_line(const UnpackTotals& totals, bool dry_run);
Shown json_line(const Fault& fault);
Shown json_line(const VerifyTotals& totals);
Shown json_digest_line(const std::string& target, const std::string& published, const std::string& computed);
Shown json_line(const Summary& summary, const std::string& container = {});
Shown json_line(const Format& format);
Shown json_line(const PackageReport& report);
Shown json_line(const Finding& finding);
Shown json_line(const DiscardEvent& event);
Shown json_line(const DiscardTotals& totals, bool dry_run);
Shown json_line(const Fate& fate, bool dry_run);
Shown json_line(const RebuildResult& result, bool dry_run);  ///< its totals
Shown json_line(const layout::Description& description, const layout::Problem& problem);
Shown json_line(const LayoutTrial& trial);  ///< what its parts do not tell: the coverage
Shown json_line(const LayoutReview& review);
Shown json_line(const LayoutTrial::OtherFile& file);
Shown json_line(const FoldedFinding& finding);
Shown json_line(const layout::Tracer::Field& field);
Shown json_line(const layout::CoverRange& range);
Shown json_line(const RoleBack& role);
Shown json_line(const layout::Found& found);
Shown json_line(const StudyReport& report);
Shown json_line(const Checkup& checkup);

/// Flags of an entry as words: "encrypted", "sparse", "damaged", "recovered".
std::vector<std::string_view> flag_words(const Entry& entry);

/// "note", "warning", "fault".
std::string_view name_of(Finding::Level level);
std::string_view name_of(UnpackEvent::Kind kind);
std::string_view name_of(DiscardEvent::Kind kind);
std::string_view name_of(Fate::Kind kind);

/// RFC 4180: cells joined by commas, quoted where they must be, ended by CRLF. A cell that a spreadsheet
/// would run (it begins with = + - @ or a tab) gets an apostrophe in front.
Shown csv_line(const std::vector<std::string>& cells);

}  // namespace operculum
