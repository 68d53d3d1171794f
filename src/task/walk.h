#pragma once

#include "base/error.h"
#include "container/locator.h"

namespace operculum {

/// An entry met on a walk, with its path from where the walk began.
struct Found {
  const Entry& entry;
  const std::string& path;  ///< also through nested containers; works behind a locator
  const Format& format;     ///< of the container that holds it
  Container& container;
  bool covered;                ///< a checksum of bytes that include these is compared somewhere around them
  std::size_t depth;           ///< 0 for the container the walk began with
  ContentPtr content;          ///< the data, when it can be had later; else empty
  Stream* stream;              ///< the data, when it can be had only now; else null
  std::size_t lane;            ///< as in Visit
  std::string_view kind = {};  ///< what a file is by content, where WalkOptions::kinds is on; see KindReader;
                               ///< "encrypted" or "unreadable" when that cannot be told
  std::size_t index = 0;       ///< of the entry, in its container
};

/// Which containers a walk enters, and how it reads them.
struct WalkOptions {
  bool deep = false;      ///< also into entries that are containers, instead of handing them out
  bool programs = false;  ///< with deep, also into programs and scripts that carry something
  bool covered = false;   ///< for the container the walk begins with: see Found
  bool kinds = false;     ///< tell what each file is by its first bytes
  bool whole =
      false;  ///< compare the checksums around nested containers, too, when all of their contents are read
};

/// What a walk tells beside entries.
struct WalkEvents {
  std::function<bool(const Found&)> found;  ///< return false to end the walk
  /// Before the entries of a container are visited; return false to pass over all of them.
  std::function<bool(Container&)> worth = [](Container&) { return true; };
  /// Before a nested container is entered; return false to hand out the entry itself.
  std::function<bool(const std::string& path, const Entry& entry)> enter = [](const std::string&,
                                                                              const Entry&) { return true; };
  /// A nested container that is entered, with its bytes as content, before what is in it.
  std::function<void(const Found& container)> container = [](const Found&) {};
  /// When all entries of a container were handed out; its findings are complete once their data was read.
  std::function<void(const std::string& path, Container&)> leave = [](const std::string&, Container&) {};
  /// A nested container whose own bytes do not fit the checksum of the entry that it is.
  std::function<void(const std::string& path, const Error&)> differs = [](const std::string&, const Error&) {
  };
  /// A nested container that could not be opened; its bytes are then handed out as an entry.
  std::function<void(const std::string& path, const Error&)> unreadable = [](const std::string&,
                                                                             const Error&) {};
};

/// What a walk tells beside entries: findings, and nested containers that could not be entered.
using FindingSink = std::function<void(const std::string& path, const Finding&)>;

/// Events that tell all findings to `sink`; `found` is left to the caller.
WalkEvents telling(const FindingSink& sink);

/// Visits the entries of `layer` in stored order. With `deep` an entry that is a container is replaced by
/// what is in it, as deep as the limits allow; a container that contains itself is noticed. Throws
/// LimitExceeded.
void walk(const Layer& layer, const SourcePtr& file, OpenContext& context, const WalkOptions& options,
          const WalkEvents& events);

/// The same for the last layer of a place, which must be a container.
void walk(const Place& place, OpenContext& context, const WalkOptions& options, const WalkEvents& events);

}  // namespace operculum
