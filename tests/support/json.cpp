#include "support/json.h"

namespace operculum::test {

nlohmann::json parse_json(std::string_view text) {
  return nlohmann::json::parse(text);
}

}  // namespace operculum::test
