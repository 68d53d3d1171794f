#include "collection/sight.h"

#include <algorithm>

#include "base/numbers.h"
#include "base/text.h"

namespace operculum {

Sight::Sight(const FindRequest& request, const OpenContext& context) : request_(request), context_(context) {
  for (const WantedDigest& wanted : request.digests) {
    Wanted& own = wanted_.emplace_back();
    if (wanted.sum == "crc32") own.crc32 = static_cast<std::uint32_t>(*parse_number(wanted.digits, 16));
  }
  for (const auto& file : request.files) wanted_.push_back({file->size(), file->crc32()});
}

bool Sight::may_fit(const Entry& entry, Timestamp undated) const {
  if (!wanted_.empty() && !may_be_any(entry)) return false;  // most are told by that
  bool sized = request_.least_size > 0 || request_.most_size != UINT64_MAX;
  if ((sized || !wanted_.empty()) && !entry.has_data()) return false;
  if (entry.has_data() && entry.size_known() &&
      (entry.size < request_.least_size || entry.size > request_.most_size))
    return false;
  if (request_.newer || request_.older) {
    Timestamp time = entry.modified.known() ? entry.modified : undated;
    std::int64_t seconds = to_unix_seconds(time);
    if (!time.known() || (request_.newer && seconds < *request_.newer) ||
        (request_.older && seconds > *request_.older))
      return false;
  }
  return true;
}

/// Sizes and stored checksums say of most files that they are not meant.
bool Sight::may_be_any(const Entry& entry) const {
  for (const Wanted& wanted : wanted_) {
    bool size_fits = !wanted.size || !entry.size_known() || entry.size == *wanted.size;
    if (size_fits && (!wanted.crc32 || !entry.is(Entry::has_crc) || entry.crc32 == *wanted.crc32))
      return true;
  }
  return false;
}

bool Sight::has_room(const Entry& entry, std::uint64_t depth) const {
  if (depth >= request_.depth) return false;
  if (!request_.digests.empty() || request_.files.empty()) return true;
  for (const auto& file : request_.files) {
    if (file->may_lie_in(entry.size)) return true;
  }
  return false;
}

bool Sight::may_hold(const Entry& entry, std::uint64_t depth) const {
  return has_room(entry, depth) &&
         may_be_container(base_name(entry.path), entry.size, request_.enter, context_);
}

bool Sight::may_lie_in(Container& container, Timestamp undated, std::uint64_t depth,
                       std::atomic<std::uint64_t>& entries) const {
  bool numbers_decide = !wanted_.empty() && !request_.selection.searches();  // else patterns need every path
  if (!numbers_decide || container.access() != Access::random) return true;
  bool any = false;
  std::uint64_t asked = 0;
  bool dated = request_.newer || request_.older;
  container.each(dated ? Detail::all : Detail::numbers, [&](const Entry& entry) {
    ++asked;
    any = any || may_fit(entry, undated) || (entry.has_data() && may_hold(entry, depth));
  });
  if (!any) entries += asked;  // those of the others are counted when they are looked at
  return any;
}

}  // namespace operculum
