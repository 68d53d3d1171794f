#pragma once

#include <nlohmann/json.hpp>
#include <string>

#include "base/shown.h"
#include "base/time.h"

namespace operculum {

// What the records of --json are put together with. Fields that do not apply are left out.

using Json = nlohmann::ordered_json;

Shown line_of(const Json& record);  ///< with its line end; what could steer a terminal is \u...
void add_text(Json& record, const char* field, const std::string& value);  ///< escaped; not when empty
void add_time(Json& record, const char* field, const Timestamp& time);     ///< not when unknown
void add_size(Json& record, const char* field, std::uint64_t size);        ///< not Entry::kUnknownSize

}  // namespace operculum
