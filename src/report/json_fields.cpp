#include "report/json_fields.h"

#include "base/text.h"
#include "container/entry.h"

namespace operculum {

Shown line_of(const Json& record) {
  std::string line = record.dump(-1, ' ', false, Json::error_handler_t::replace);
  if (!is_plain(line) && printable(line) != line)
    line = record.dump(-1, ' ', true, Json::error_handler_t::replace);
  return Shown::made(line + "\n");
}

void add_text(Json& record, const char* field, const std::string& value) {
  if (!value.empty()) record[field] = escape(value);
}

void add_time(Json& record, const char* field, const Timestamp& time) {
  std::string text = to_rfc3339(time);
  if (!text.empty()) record[field] = text;
}

void add_size(Json& record, const char* field, std::uint64_t size) {
  if (size != Entry::kUnknownSize) record[field] = size;
}

}  // namespace operculum
