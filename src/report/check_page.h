#pragma once

#include <string>
#include <vector>

#include "report/figure.h"
#include "task/layout_check.h"

namespace operculum {

/// A page of HTML that needs nothing else: what a description makes of each byte of a container, the fields
/// that it read, and what it leaves unexplained.
std::string check_page(const LayoutTrial& trial, const std::string& title);

/// The page's drawing alone.
std::vector<Figure> check_figures(const LayoutTrial& trial);

}  // namespace operculum
