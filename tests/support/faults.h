#pragma once

#include <cstdint>

#include "io/kernel.h"

namespace operculum::test {

/// While it lives, the n-th call of one sort (from 1), or each from it on, fails with an error number; on all
/// threads. The built program takes the same from OPERCULUM_FAULT, as in "write:3:28" or "write:3:28:on".
class CallFault {
 public:
  enum class Then { works, fails_on };
  CallFault(kernel::Call call, std::uint64_t nth, int error, Then then = Then::works);
  ~CallFault();
  CallFault(const CallFault&) = delete;
  CallFault& operator=(const CallFault&) = delete;

  bool reached() const;  ///< the call came, and failed
};

}  // namespace operculum::test
