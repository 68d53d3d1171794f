#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

/// a (what) b on signed numbers of 64 bits: * / + - % and x (exclusive or) & | < (shift left) > (shift right,
/// zeros come in). Throws Malformed with the line `where` at a division by zero and beyond 64 bits.
std::int64_t compute(const Run& run, const Span& where, char what, std::int64_t a, std::int64_t b);

}  // namespace operculum::layout
