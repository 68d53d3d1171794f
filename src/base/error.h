#pragma once

#include <cstdint>
#include <exception>
#include <stdexcept>
#include <string>

namespace operculum {

/// What kept a piece of work from being done; each kind is a different thing for the user to do.
enum class ErrorKind {
  malformed,       ///< the bytes contradict the format
  unsupported,     ///< understood, but this feature is not built
  needs_key,       ///< a password or key is missing or wrong
  limit_exceeded,  ///< a guard stopped the work; the message names the option that raises it
  io,              ///< the operating system said no
};

/// Base of everything the core throws. The text is one sentence that starts in lower case and says what was
/// expected, what was found and what to try; tasks put the file and the entry in front of it.
class Error : public std::runtime_error {
 public:
  Error(ErrorKind kind, const std::string& text) : std::runtime_error(text), kind_(kind) {}
  ErrorKind kind() const { return kind_; }

 private:
  ErrorKind kind_;
};

/// An Error of one kind, so that code can say `throw Malformed(...)`.
template <ErrorKind Kind>
class ErrorOf : public Error {
 public:
  explicit ErrorOf(const std::string& text) : Error(Kind, text) {}
};

using Malformed = ErrorOf<ErrorKind::malformed>;
/// Malformed because the bytes end too early: an interrupted download, a truncated copy.
class CutShort : public Malformed {
 public:
  using Malformed::Malformed;
};

using NeedsKey = ErrorOf<ErrorKind::needs_key>;
using LimitExceeded = ErrorOf<ErrorKind::limit_exceeded>;

/// Names the feature that is not built; the text always begins with "Unsupported: ".
class Unsupported : public Error {
 public:
  explicit Unsupported(const std::string& feature)
      : Error(ErrorKind::unsupported, "Unsupported: " + feature) {}
};

/// The operating system refused; carries its reason in words.
class IoError : public Error {
 public:
  IoError(const std::string& doing, int error_number);
  int error_number() const { return error_number_; }

 private:
  int error_number_;
};

/// Nothing can be written any more: the disk is full, or the output folder cannot be used. Ends the whole
/// run, not only the entry at hand.
class CannotWrite : public IoError {
 public:
  using IoError::IoError;
};

/// What a task tells of anything that was thrown at it: an Error as it is; memory that was not there as
/// limit_exceeded; whatever else a library threw as malformed, for only odd input makes it do so.
Error as_error(const std::exception& thrown);

/// A word for the kind, used as `error` in JSON output: "malformed", "unsupported", "needs-key", "limit",
/// "io".
const char* name_of(ErrorKind kind);

}  // namespace operculum
