#pragma once

#include "base/sum_kinds.h"

namespace operculum {

/// The same sum; of more than a few MiB it is computed by a thread of its own, beside whoever gives the
/// bytes.
std::unique_ptr<Sum> make_background_sum(std::unique_ptr<Sum> sum);

}  // namespace operculum
