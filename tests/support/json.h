#pragma once

#include <nlohmann/json.hpp>
#include <string_view>

namespace operculum::test {

/// One text of JSON. The parser's templates are made in one place: they take long to compile.
nlohmann::json parse_json(std::string_view text);

}  // namespace operculum::test
