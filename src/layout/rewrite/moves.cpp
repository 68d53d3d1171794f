#include "layout/rewrite/moves.h"

namespace operculum::layout {
namespace {

/// A part that ends with the entry's bytes has nothing of what fills up behind them.
std::int64_t growth_by(const RangeRead& part, const Insert& insert) {
  std::uint64_t end = part.at + part.length;
  if (insert.inside < part.at || insert.inside >= end) return 0;
  return end == insert.end ? insert.exact : insert.delta;
}

}  // namespace

std::uint64_t Moves::moved(std::uint64_t at) const {
  std::int64_t delta = 0;
  for (const Insert& insert : inserts_) delta += at >= insert.at ? insert.delta : 0;
  return at + static_cast<std::uint64_t>(delta);
}

std::int64_t Moves::shift_of_part(std::uint64_t at) const {
  const OpenedPart* part = file_.part_at(at);
  if (part == nullptr) return 0;
  std::uint64_t in_front = part->at - 1;  // what is put in at its begin is within it
  return static_cast<std::int64_t>(moved(in_front) - in_front);
}

std::int64_t Moves::shift_of(std::uint64_t at) const {
  return static_cast<std::int64_t>(moved(at) - at) - shift_of_part(at);
}

std::int64_t Moves::growth_of(const RangeRead& part) const {
  std::int64_t delta = 0;
  for (const Insert& insert : inserts_) delta += growth_by(part, insert);
  return delta;
}

std::vector<OpenedPart> Moves::parts(std::uint64_t appended) const {
  std::vector<OpenedPart> out = file_.parts;
  for (OpenedPart& part : out) {
    std::uint64_t end = moved(part.at + part.length) + appended;
    part.at += static_cast<std::uint64_t>(shift_of_part(part.at)) + appended;
    part.length = end - part.at;
  }
  return out;
}

}  // namespace operculum::layout
