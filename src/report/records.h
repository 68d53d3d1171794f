#pragma once

#include <nlohmann/json.hpp>

#include "task/identify.h"
#include "task/install_report.h"
#include "task/list.h"
#include "task/summary.h"
#include "task/unpack.h"
#include "task/verify.h"

namespace operculum {

using Json = nlohmann::ordered_json;

// The records of --json, one object a line; docs/output.md documents each field. Text that is no UTF-8, and
// control characters, appear as escape() writes them.

Json to_json(const Found& found);
Json to_json(const Identification& identification);
Json to_json(const UnpackEvent& event);
Json to_json(const UnpackTotals& totals, bool dry_run);
Json to_json(const Fault& fault);
Json to_json(const VerifyTotals& totals);
Json to_json(const Summary& summary);
Json to_json(const Format& format);
Json to_json(const PackageReport& report);
Json finding_json(const std::string& path, const Finding& finding);

/// Flags of an entry as words: "encrypted", "sparse", "damaged", "recovered".
std::vector<std::string_view> flag_words(const Entry& entry);

/// "note", "warning", "fault".
std::string_view name_of(Finding::Level level);
std::string_view name_of(UnpackEvent::Kind kind);

/// One line of JSON.
std::string json_line(const Json& record);

/// RFC 4180: cells joined by commas, quoted where they must be, ended by CRLF.
std::string csv_line(const std::vector<std::string>& cells);

}  // namespace operculum
