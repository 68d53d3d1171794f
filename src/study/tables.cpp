#include "study/tables.h"

#include <algorithm>
#include <map>
#include <span>

#include "study/columns.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostStretches = 24, kMostInFront = 4, kMostOfKind = 8, kMostOfStride = 4,
                      kLeastStride = 2, kMostStride = 136;
constexpr std::size_t kLeastTextStride = 6, kMostTextStride = 320;
constexpr std::uint64_t kStretchFront = 64, kLeastRows = 3,
                        kLeastNarrowRows = 6;  // numbers of two bytes ascend by chance more often
constexpr NumberForm kSought[] = {{4, false}, {4, true}, {3, false}, {3, true}, {2, false}, {2, true}};

/// Keeps the longest stretches; those of a multiple of a stride that is known, or one behind the other in the
/// same records, are no news.
class Collected {
 public:
  void add(const Stretch& found) {
    for (std::size_t stride = found.stride; stride >= kLeastStride; --stride) {
      if (found.stride % stride != 0) continue;
      for (std::size_t i : by_stride_[stride]) {
        Stretch& known = all_[i];
        bool same_place = found.at < known.end() + known.stride && known.at < found.end() + found.stride;
        if (!same_place || found.text != known.text) continue;
        if (stride == found.stride) {
          if (found.weight > known.weight) known = found;
          return;
        }
        if (found.rows * found.stride <= known.rows * known.stride + found.stride) return;
      }
    }
    by_stride_[found.stride].push_back(all_.size());
    all_.push_back(found);
  }
  /// The longest ones: of numbers, of texts, of those at the front, and of each stride some at least and not
  /// all, for data may be full of what looks like a table.
  std::vector<Stretch> best(std::uint64_t origin) {
    auto heavier = [](const Stretch& a, const Stretch& b) { return a.weight > b.weight; };
    std::stable_sort(all_.begin(), all_.end(), heavier);
    std::vector<Stretch> kept, left;
    std::size_t in_front[2] = {}, of_kind[2] = {};
    std::map<std::pair<bool, std::size_t>, std::size_t> of_stride;
    for (const Stretch& one : all_) {
      bool front = one.at - origin < kStretchFront && in_front[one.text]++ < kMostInFront;
      bool some = ++of_stride[{one.text, one.stride}] <= kMostOfStride && of_kind[one.text]++ < kMostOfKind;
      (front || some ? kept : left).push_back(one);
    }
    std::size_t room = kMostStretches - std::min(kMostStretches, kept.size());
    kept.insert(kept.end(), left.begin(),
                left.begin() + static_cast<std::ptrdiff_t>(std::min(room, left.size())));
    std::stable_sort(kept.begin(), kept.end(), heavier);
    return kept;
  }

 private:
  std::vector<Stretch> all_;
  std::vector<std::vector<std::size_t>> by_stride_ =
      std::vector<std::vector<std::size_t>>(kMostTextStride + 1);
};

/// The place that a number could be, counted from the front, or from the end towards it: as it is, or as one
/// below zero.
std::uint64_t place_of(std::uint64_t number, NumberForm form, PlaceCount counted, std::uint64_t file_size) {
  if (number == all_ones(form)) return 0;  // none
  if (counted == PlaceCount::back) return number <= file_size ? file_size - number : 0;
  if (number < file_size || form.width < 4) return number < file_size ? number : 0;
  std::uint64_t below = all_ones(form) - number + 1;
  return below < file_size ? file_size - below : 0;
}

void ascending(ByteView bytes, std::uint64_t origin, std::uint64_t file_size, NumberForm form,
               PlaceCount counted, Collected& out) {
  if (bytes.size() < 16) return;
  std::size_t count = bytes.size() - form.width + 1;
  std::vector<std::uint32_t> value(count);
  for (std::size_t i = 0; i < count; ++i) {
    std::uint64_t number = read_number(bytes.data() + i, form);
    value[i] = static_cast<std::uint32_t>(place_of(number, form, counted, file_size));
  }
  std::uint64_t least = form.width == 4 ? kLeastRows : kLeastNarrowRows;
  for (std::size_t stride = std::max<std::size_t>(kLeastStride, form.width); stride <= kMostStride;
       ++stride) {
    for (std::size_t at = 0; at + 2 * stride < count; ++at) {
      std::uint32_t a = value[at], b = value[at + stride], c = value[at + 2 * stride];
      if (!(a < b && b < c) || a == 0) continue;
      if (at >= stride && value[at - stride] < a && value[at - stride] != 0) continue;  // not the first one
      std::uint64_t rows = 3;
      std::uint32_t last = c;
      for (std::size_t i = at + 3 * stride; i < count && value[i] > last; i += stride, ++rows)
        last = value[i];
      if (rows >= least && last - a >= rows * 4)
        out.add({origin + at, stride, rows, false, static_cast<double>(rows * form.width * form.width),
                 value[at]});
    }
  }
}

/// Whether texts begin alike.
bool same_front(ByteView a, ByteView b) {
  constexpr std::size_t kFront = 8;
  std::size_t count = std::min(kFront, b.size());
  return std::equal(a.begin(), a.begin() + static_cast<std::ptrdiff_t>(count), b.begin());
}

void texts(ByteView bytes, std::uint64_t origin, Collected& out) {
  std::vector<bool> begins(bytes.size());
  std::size_t in_front = 0;  // letters; a number in front of a text may look like some
  for (std::size_t i = 0; i + 2 < bytes.size(); ++i) {
    bool two = is_ascii_name_byte(bytes[i]) && (is_ascii_name_byte(bytes[i + 1]) || bytes[i + 1] == 0);
    begins[i] = two && in_front <= kMostLikeLetters;
    in_front = is_ascii_name_byte(bytes[i]) ? in_front + 1 : 0;
  }
  for (std::size_t stride = kLeastTextStride; stride <= kMostTextStride; ++stride) {
    for (std::size_t at = 0; at + 2 * stride < bytes.size(); ++at) {
      if (!begins[at] || !begins[at + stride] || !begins[at + 2 * stride]) continue;
      if (at >= stride && begins[at - stride]) continue;
      std::uint64_t rows = 1, others = 0;
      for (std::size_t i = at + stride; i < bytes.size() && begins[i]; i += stride, ++rows)
        others += same_front(bytes.subspan(i - stride), bytes.subspan(i)) ? 0 : 1;
      if (others * 2 < rows) continue;  // filling
      out.add({origin + at, stride, rows, true, static_cast<double>(rows * 16), 0});
    }
  }
}

}  // namespace

std::vector<Stretch> find_stretches(const Space& space, std::uint64_t from, std::size_t length,
                                    std::uint64_t file_size) {
  if (from < space.at || from >= space.end()) return {};
  ByteView bytes(space.bytes);
  bytes = bytes.subspan(static_cast<std::size_t>(from - space.at));
  bytes = bytes.first(std::min(bytes.size(), length));
  Collected found;
  texts(bytes, from, found);
  for (NumberForm form : kSought) ascending(bytes, from, file_size, form, PlaceCount::up, found);
  for (NumberForm form : {kSought[0], kSought[1]})
    ascending(bytes, from, file_size, form, PlaceCount::back, found);
  return found.best(from);
}

}  // namespace operculum::study
