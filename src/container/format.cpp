#include "container/format.h"

namespace operculum {

OpenContext::OpenContext() {
  spool.set_watch([&guards = limits](std::uint64_t bytes) { guards.count_spooled(bytes); });
}

OpenContext::~OpenContext() = default;

}  // namespace operculum
