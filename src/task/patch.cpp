#include "task/patch.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"

namespace operculum {
namespace {

constexpr std::uint64_t kStep = 1 << 20;  // bytes compared at a time

struct Patch {
  std::uint64_t from, length;  // in `after`
};

bool equal_bytes(const Source& a, const Source& b, std::uint64_t at, std::uint64_t length) {
  return read_up_to(a, at, length) == read_up_to(b, at, length);
}

}  // namespace

Assembly patched(const SourcePtr& base, const Source& before, const SourcePtr& after) {
  std::map<std::uint64_t, Patch> patches;  // by their place in base
  for (std::uint64_t at = 0; at < after->size();) {
    auto old_place = trace(before, at, *base);
    auto new_place = trace(*after, at, *base);
    if (old_place && new_place && old_place->at == new_place->at) {
      at += std::min(old_place->length, new_place->length);
      continue;
    }
    std::uint64_t length = std::min(kStep, after->size() - at);
    if (old_place) length = std::min(length, old_place->length);
    if (!old_place && !equal_bytes(before, *after, at, length)) {
      throw Unsupported(
          fmt::format("changing bytes from offset {} on, which do not lie in the container as they are", at));
    }
    if (old_place) patches[old_place->at] = {at, length};
    at += length;
  }
  Assembly out;
  std::uint64_t done = 0;
  for (const auto& [at, patch] : patches) {
    if (at < done) throw Unsupported("changing bytes that another part of the container shares");
    out.add(base, done, at - done);
    out.add(after, patch.from, patch.length);
    done = at + patch.length;
  }
  out.add(base, done, base->size() - done);
  return out;
}

}  // namespace operculum
