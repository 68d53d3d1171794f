#pragma once

#include <cstddef>
#include <functional>

namespace operculum {

/// Calls `work(i)` for each number below `count`, on as many threads as `jobs` says (0: one for each
/// processor). What is thrown ends all and is thrown again.
void for_each_of(std::size_t count, unsigned jobs, const std::function<void(std::size_t)>& work);

}  // namespace operculum
