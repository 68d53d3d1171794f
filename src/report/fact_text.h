#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// The value of a fact as a person is shown it: escaped; of one of more than 1,000 bytes, which a description
/// can make, its front and its length. Records have it whole.
std::string fact_text(std::string_view value);

}  // namespace operculum
