#include "task/room_needed.h"

#include <fmt/format.h>

#include <cerrno>

#include "base/units.h"

namespace operculum {

Error with_room_needed(const CannotWrite& error, const Progress& progress) {
  std::uint64_t total = progress.total_bytes, done = progress.bytes;
  bool full = error.error_number() == ENOSPC || error.error_number() == EDQUOT;
  if (!full || total <= done) return error;
  return Error(ErrorKind::io, fmt::format("{}; {} of {} came that far, so {} more are needed", error.what(),
                                          human_size(done), human_size(total), human_size(total - done)));
}

}  // namespace operculum
