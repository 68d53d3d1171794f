#pragma once

#include <array>
#include <string_view>

#include "io/stream.h"

namespace operculum {

/// Run lengths whose codes are told apart by ranges: what each of the 256 first bytes announces.
struct RunRule {
  enum class What { none, self, copy, repeat, zeros, end };
  What what = What::none;
  unsigned count = 0;  ///< in bytes; of a wide rule without what the next byte adds
  bool wide = false;   ///< another byte follows the code and adds to the count
};
using RunRules = std::array<RunRule, 256>;

/// Rules by their text, "00-7f copy 1, 80-fe repeat 3, ff zeros wide 2": codes in base 16, what they
/// announce, and the count of the first one; each further code counts one more, of wide ones 256 more. `self`
/// is the code itself, `end` ends the data. Throws Malformed.
RunRules parse_run_rules(std::string_view text);

/// Ends with the input. Throws CutShort when it ends within a run, Malformed for a code without a rule.
StreamPtr open_run_ranges(StreamPtr packed, const RunRules& rules);

/// `plain` by these rules, longest runs first. Throws Unsupported when they have no way to write some byte.
Bytes pack_run_ranges(ByteView plain, const RunRules& rules);

}  // namespace operculum
