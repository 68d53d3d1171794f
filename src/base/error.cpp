#include "base/error.h"

#include <fmt/format.h>

#include <system_error>

namespace operculum {

IoError::IoError(const std::string& doing, int error_number)
    : Error(ErrorKind::io, fmt::format("{}: {}", doing, std::generic_category().message(error_number))),
      error_number_(error_number) {}

const char* name_of(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::malformed:
      return "malformed";
    case ErrorKind::unsupported:
      return "unsupported";
    case ErrorKind::needs_key:
      return "needs-key";
    case ErrorKind::limit_exceeded:
      return "limit";
    case ErrorKind::io:
      return "io";
  }
  return "unknown";
}

}  // namespace operculum
