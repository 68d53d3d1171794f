#include "io/compare.h"

#include <algorithm>

namespace operculum {
namespace {

constexpr std::size_t kCompared = 1 << 20;  // bytes compared at a time

bool same_front(const Bytes& a, const Bytes& b, std::size_t count) {
  return std::equal(a.begin(), a.begin() + static_cast<std::ptrdiff_t>(count), b.begin());
}

}  // namespace

bool same_bytes(Stream& a, Stream& b, const std::function<void(std::uint64_t)>& watch) {
  Bytes ours(kCompared), theirs(kCompared);
  for (;;) {
    std::size_t count = read_fully(a, ours), other = read_fully(b, theirs);
    if (count != other || !same_front(ours, theirs, count)) return false;
    if (count == 0) return true;
    watch(count);
  }
}

bool same_range(const Source& a, std::uint64_t a_at, const Source& b, std::uint64_t b_at,
                std::uint64_t length) {
  Bytes ours(static_cast<std::size_t>(std::min<std::uint64_t>(kCompared, length))), theirs(ours.size());
  for (std::uint64_t done = 0; done < length;) {
    auto count = static_cast<std::size_t>(std::min<std::uint64_t>(ours.size(), length - done));
    if (a.read_at(a_at + done, ByteSpan(ours).first(count)) != count) return false;
    if (b.read_at(b_at + done, ByteSpan(theirs).first(count)) != count) return false;
    if (!same_front(ours, theirs, count)) return false;
    done += count;
  }
  return true;
}

}  // namespace operculum
