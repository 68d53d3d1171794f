#include "base/error.h"

#include <fmt/format.h>

#include <new>
#include <system_error>

namespace operculum {

IoError::IoError(const std::string& doing, int error_number)
    : Error(ErrorKind::io, fmt::format("{}: {}", doing, std::generic_category().message(error_number))),
      error_number_(error_number) {}

Error as_error(const std::exception& thrown) {
  if (const auto* error = dynamic_cast<const Error*>(&thrown)) return *error;
  if (dynamic_cast<const std::bad_alloc*>(&thrown) != nullptr)
    return {ErrorKind::limit_exceeded, "there is not enough memory to decode it"};
  if (dynamic_cast<const std::length_error*>(&thrown) != nullptr)
    return {ErrorKind::malformed, "a size in it is larger than anything can be; it is damaged"};
  return {ErrorKind::malformed, fmt::format("it cannot be understood; it is damaged ({})", thrown.what())};
}

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
