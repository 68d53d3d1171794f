#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// Text for an HTML page: what a container says must not become markup.
std::string html(std::string_view untrusted);

/// The same of a script or another text of several lines, which it keeps.
std::string html_lines(std::string_view untrusted);

/// A page up to its body, with the look that all our pages share.
std::string page_head(std::string_view title);

}  // namespace operculum
