#pragma once

#include "layout/library.h"
#include "layout/text/problem.h"
#include "task/checkup.h"
#include "task/identify.h"
#include "task/install_report.h"
#include "task/layout_check.h"
#include "task/layout_review.h"
#include "task/list.h"
#include "task/rebuild.h"
#include "task/receipt.h"
#include "task/study_file.h"
#include "task/summary.h"
#include "task/unpack.h"
#include "task/verify.h"

namespace operculum {

// The records of --json, one object a line, with its line end; docs/output.md documents each field. Text that
// is no UTF-8, and control characters, appear as escape() writes them.

/// `container` is the target that holds it, where there are several; `digest` the result of `sum`, where one
/// was asked for.
std::string json_line(const Found& found, const std::string& container = {}, const std::string& sum = {},
                      const std::string& digest = {});
std::string json_line(const Identification& identification);
std::string json_line(const UnpackEvent& event);
std::string json_line(const UnpackTotals& totals, bool dry_run);
std::string json_line(const Fault& fault);
std::string json_line(const VerifyTotals& totals);
std::string json_digest_line(const std::string& target, const std::string& published,
                             const std::string& computed);
std::string json_line(const Summary& summary, const std::string& container = {});
std::string json_line(const Format& format);
std::string json_line(const PackageReport& report);
std::string json_line(const Finding& finding);
std::string json_line(const DiscardEvent& event);
std::string json_line(const DiscardTotals& totals, bool dry_run);
std::string json_line(const Fate& fate, bool dry_run);
std::string json_line(const RebuildResult& result, bool dry_run);  ///< its totals
std::string json_line(const layout::Description& description, const layout::Problem& problem);
std::string json_line(const LayoutTrial& trial);  ///< what its parts do not tell: the coverage
std::string json_line(const LayoutReview& review);
std::string json_line(const LayoutTrial::OtherFile& file);
std::string json_line(const FoldedFinding& finding);
std::string json_line(const layout::Tracer::Field& field);
std::string json_line(const layout::CoverRange& range);
std::string json_line(const RoleBack& role);
std::string json_line(const layout::Found& found);
std::string json_line(const StudyReport& report);
std::string json_line(const Checkup& checkup);

/// Flags of an entry as words: "encrypted", "sparse", "damaged", "recovered".
std::vector<std::string_view> flag_words(const Entry& entry);

/// "note", "warning", "fault".
std::string_view name_of(Finding::Level level);
std::string_view name_of(UnpackEvent::Kind kind);
std::string_view name_of(DiscardEvent::Kind kind);
std::string_view name_of(Fate::Kind kind);

/// RFC 4180: cells joined by commas, quoted where they must be, ended by CRLF. A cell that a spreadsheet
/// would run (it begins with = + - @ or a tab) gets an apostrophe in front.
std::string csv_line(const std::vector<std::string>& cells);

}  // namespace operculum
