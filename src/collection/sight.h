#pragma once

#include "collection/find.h"

namespace operculum {

/// What a request says of entries whose data nobody has read: sizes, times and stored checksums decide. Safe
/// to share between threads.
class Sight {
 public:
  /// `request` and `context` must outlive it.
  Sight(const FindRequest& request, const OpenContext& context);

  /// Whether an entry may be what is looked for, whatever its path and kind; `undated` is the time of those
  /// that state none.
  bool may_fit(const Entry& entry, Timestamp undated) const;

  /// Whether what is looked for may lie in an entry, which is in `depth` containers within the first, if that
  /// is a container.
  bool has_room(const Entry& entry, std::uint64_t depth) const;
  /// The same of one that is a container by its name as far as that is asked for.
  bool may_hold(const Entry& entry, std::uint64_t depth) const;

  /// Whether an entry of `container` may fit or hold what fits; true where asking would cost as much as
  /// looking. Counts into `entries` those that were asked.
  bool may_lie_in(Container& container, Timestamp undated, std::uint64_t depth,
                  std::atomic<std::uint64_t>& entries) const;

 private:
  /// A digest or file that is looked for, as far as stored numbers can speak against it.
  struct Wanted {
    std::optional<std::uint64_t> size;
    std::optional<std::uint32_t> crc32;
  };

  bool may_be_any(const Entry& entry) const;

  const FindRequest& request_;
  const OpenContext& context_;
  std::vector<Wanted> wanted_;
};

}  // namespace operculum
