#pragma once

#include <functional>
#include <vector>

#include "io/output_folder.h"
#include "io/source.h"

namespace operculum {

/// A file to be written, as the runs of bytes that it consists of: kept ones, that lie in another source as
/// they are, and new ones. Plain data: nothing is read before somebody asks, so that an assembly can be
/// looked at, opened as a container and compared before it is written, and what nobody changes is one run
/// however large it is.
class Assembly {
 public:
  struct Run {
    SourcePtr source;
    std::uint64_t at = 0, length = 0;  ///< bytes of the source
  };

  /// `length` bytes of `source`; joined to the run in front when they lie behind it. Throws CutShort where
  /// the source does not have them.
  void add(const SourcePtr& source, std::uint64_t at, std::uint64_t length);
  void add(const SourcePtr& source) { add(source, 0, source->size()); }
  /// What lies in `source` from one place to another; nothing where that is not behind it.
  void keep(const SourcePtr& source, std::uint64_t from, std::uint64_t to) {
    if (to > from) add(source, from, to - from);
  }
  void add(Bytes bytes);
  void add(const Assembly& other);
  void add_zeros(std::uint64_t length);

  std::uint64_t size() const { return size_; }  ///< in bytes
  std::vector<Run> runs() const;

  /// How many of the bytes are kept ones of `source`.
  std::uint64_t kept_of(const Source& source) const;

  /// The whole as it will be read.
  SourcePtr source() const;

 private:
  std::vector<Run> runs_;
  Bytes pending_;  // new bytes that are not a run yet: small ones share one
  std::uint64_t size_ = 0;

  void close_pending();
};

/// Carries an assembly out. `watch` is called with the bytes done after each step and may throw to end it.
/// Throws IoError; CutShort where a source has fewer bytes than the assembly says.
void write_assembly(const Assembly& assembly, OutputFile& out,
                    const std::function<void(std::uint64_t)>& watch);

}  // namespace operculum
