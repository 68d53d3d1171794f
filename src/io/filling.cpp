#include "io/filling.h"

#include <algorithm>

namespace operculum {
namespace {

constexpr std::uint64_t kLookedAtOnce = 64 * 1024;
constexpr std::uint64_t kLong = 16 << 20;  // bytes: runs up to here are read whole in any case
constexpr std::uint64_t kSamples = 256;

std::uint64_t hole_within(const Source& source, std::uint64_t at, std::uint64_t end) {
  return std::min(source.hole_at(at), end - at);
}

/// Where the last byte that is not `fill` ends; `begin` where all are.
std::uint64_t end_of_other(const Source& source, std::uint64_t begin, std::uint64_t end, Byte fill) {
  Bytes block = read_up_to(source, begin, end - begin);
  auto other = std::find_if(block.rbegin(), block.rend(), [&](Byte one) { return one != fill; });
  return begin + static_cast<std::uint64_t>(block.rend() - other);
}

bool all_are(const Source& source, std::uint64_t begin, std::uint64_t end, Byte fill) {
  for (std::uint64_t at = begin; at < end;) {
    if (std::uint64_t hole = hole_within(source, at, end); hole > 0) {
      if (fill != 0) return false;
      at += hole;
      continue;
    }
    std::uint64_t next = std::min(end, at + kLookedAtOnce);
    if (end_of_other(source, at, next, fill) != at) return false;
    at = next;
  }
  return true;
}

bool samples_are(const Source& source, std::uint64_t begin, std::uint64_t end, Byte fill) {
  constexpr std::uint64_t kSample = 4096;
  for (std::uint64_t i = 0; i <= kSamples; ++i) {
    std::uint64_t at = begin + (end - begin - kSample) / kSamples * i;
    if (!all_are(source, at, at + kSample, fill)) return false;
  }
  return true;
}

bool is_filler(Byte one) {
  return one == 0 || one == 0xff;
}

}  // namespace

std::uint64_t filling_at(const Source& source, std::uint64_t begin, std::uint64_t size) {
  std::optional<Byte> filler;
  std::uint64_t done = 0;
  while (done < size) {
    Bytes block = read_up_to(source, begin + done, std::min(kLookedAtOnce, size - done));
    if (block.empty()) break;
    if (!filler) filler = block[0];
    if (!is_filler(*filler)) break;
    auto other = std::find_if(block.begin(), block.end(), [&](Byte one) { return one != *filler; });
    done += static_cast<std::uint64_t>(other - block.begin());
    if (other != block.end()) break;
  }
  return done;
}

bool is_filling(const Source& source, std::uint64_t begin, std::uint64_t end, Look look) {
  end = std::min(end, source.size());
  if (begin >= end) return true;
  Bytes first = read_up_to(source, begin, 1);
  if (first.empty() || !is_filler(first[0])) return false;
  return look == Look::samples && end - begin > kLong ? samples_are(source, begin, end, first[0])
                                                      : all_are(source, begin, end, first[0]);
}

std::uint64_t filling_at_end(const Source& source, std::uint64_t from, Look look) {
  std::uint64_t size = source.size();
  if (from >= size) return size;
  Byte fill = read_up_to(source, size - 1, 1).at(0);
  if (!is_filler(fill)) return size;
  std::uint64_t floor = from;
  if (look == Look::samples && size - from > kLong) {
    if (samples_are(source, from, size, fill)) return from;
    floor = size - kLong;
  }
  std::uint64_t at = fill == 0 ? std::max(floor, end_of_data(source)) : size;
  while (at > floor) {
    std::uint64_t begin = at - std::min(at - floor, kLookedAtOnce);
    std::uint64_t other = end_of_other(source, begin, at, fill);
    if (other != begin) return other;
    at = begin;
  }
  return at;
}

}  // namespace operculum
