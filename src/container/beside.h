#pragma once

#include <functional>
#include <string>
#include <vector>

#include "io/source.h"

namespace operculum {

/// Something that lies beside a file and may be a part of what it is part of.
struct Candidate {
  std::string name;                 ///< for messages
  std::function<SourcePtr()> open;  ///< may throw
};

/// What lies beside a file: in its folder, or in its container.
struct Beside {
  /// The plain file of that name, or of a path beneath; null when there is none.
  std::function<SourcePtr(const std::string& name)> open;
  /// All that may be a part, itself too, for what finds its parts by what they say of themselves.
  std::function<std::vector<Candidate>()> candidates;

  /// Opens each candidate in turn until `take` says that it is enough. One that cannot be read, or at which
  /// `take` throws an Error, is no part, and costs no other.
  void each(const std::function<bool(const Candidate& candidate, const SourcePtr& file)>& take) const;

  SourcePtr operator()(const std::string& name) const { return open ? open(name) : nullptr; }
  explicit operator bool() const { return static_cast<bool>(open); }
  std::vector<Candidate> all() const { return candidates ? candidates() : std::vector<Candidate>(); }
};

}  // namespace operculum
