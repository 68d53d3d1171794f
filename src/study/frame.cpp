#include "study/frame.h"

#include <algorithm>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kNear = 64;  // numbers of one or two bytes further away are chance

constexpr NumberForm kForms[] = {{4, false}, {4, true}, {8, false}, {8, true},
                                 {2, false}, {2, true}, {1, false}};

bool overlaps(const HeadField& field, Part part, std::uint64_t at, unsigned width) {
  if (field.part != part) return false;
  // Places of the tail count backwards.
  if (part == Part::tail) return at > field.at - field.form.width && field.at > at - width;
  return at < field.at + field.form.width && field.at < at + width;
}

/// Whether what seems to be a number is rather a part of a text.
bool is_in_text(ByteView bytes, std::uint64_t at, unsigned width) {
  auto letters = [&](std::uint64_t from, std::uint64_t count) {
    if (from + count > bytes.size()) return false;
    ByteView part = bytes.subspan(static_cast<std::size_t>(from), static_cast<std::size_t>(count));
    return std::all_of(part.begin(), part.end(), is_ascii_name_byte);
  };
  return letters(at, width) && ((at > 0 && letters(at - 1, 1)) || letters(at + width, 1));
}

}  // namespace

std::vector<HeadField> sorted(std::vector<HeadField> fields) {
  std::stable_sort(fields.begin(), fields.end(), [](const HeadField& a, const HeadField& b) {
    if (a.part != b.part) return a.part < b.part;
    return a.part == Part::tail ? a.at > b.at : a.at < b.at;
  });
  return fields;
}

Frame::Frame(const Subject& subject, const SpacePtr& space)
    : size_(subject.size()), anchors_(subject.anchors) {
  parts_[0] = subject.read(0, kHead);
  std::uint64_t tail = std::min<std::uint64_t>(kTail, size_);
  parts_[1] = subject.read(size_ - tail, tail);
  if (!space->plain)
    parts_[2].assign(space->bytes.begin(), space->bytes.begin() + static_cast<std::ptrdiff_t>(
                                                                      std::min(space->bytes.size(), kHead)));
  for (std::size_t i = 0; i < 3; ++i) limits_[i] = parts_[i].size();
}

Frame Frame::narrowed(std::uint64_t head_end, std::uint64_t tail_begin, std::uint64_t index_end) const {
  Frame frame = *this;
  frame.limits_[0] = std::min<std::uint64_t>(parts_[0].size(), head_end);
  frame.limits_[1] = std::min<std::uint64_t>(parts_[1].size(), size_ - std::min(size_, tail_begin));
  frame.limits_[2] = std::min<std::uint64_t>(parts_[2].size(), index_end);
  return frame;
}

std::optional<HeadField> Frame::find(std::uint64_t value, const std::vector<HeadField>& used,
                                     bool big) const {
  for (const FrameWord& word : words_) {
    bool taken =
        std::any_of(used.begin(), used.end(), [&](const HeadField& one) { return one.at == word.place; });
    if (word.value == value && !taken) return HeadField{Part::head, word.place, {1, false}, "", ""};
  }
  std::optional<HeadField> best;
  int best_rank = -100;
  for (Part part : {Part::head, Part::tail, Part::index}) {
    const Bytes& bytes = parts_[static_cast<std::size_t>(part)];
    std::uint64_t limit = limits_[static_cast<std::size_t>(part)];
    std::uint64_t begin = part == Part::tail ? bytes.size() - limit : 0;
    std::uint64_t end = part == Part::tail ? bytes.size() : limit;
    for (NumberForm form : kForms) {
      std::uint64_t reach = form.width == 1 ? 16 : form.width == 2 ? 32 : end;
      std::uint64_t first = part == Part::tail ? std::max(begin, end - std::min(end, reach)) : begin;
      for (std::uint64_t at = first; at + form.width <= (part == Part::tail ? end : std::min(end, reach));
           ++at) {
        if (read_number(bytes.data() + at, form) != value) continue;
        if (form.width < 4 && is_in_text(bytes, at, form.width)) continue;
        std::uint64_t place = part == Part::tail ? bytes.size() - at : at;
        if (std::any_of(used.begin(), used.end(),
                        [&](const HeadField& one) { return overlaps(one, part, place, form.width); }))
          continue;
        int rank = (form.width == 1   ? -6
                    : form.width == 2 ? 2
                                      : 4) +
                   (form.width > 1 && form.big == big ? 2 : 0) +
                   (at % form.width == 0 ? 2
                    : at % 2 == 0        ? 1
                                         : 0) +
                   (part == Part::index ? 1 : 0) - (at > 64 && part != Part::tail ? 3 : 0);
        if (rank > best_rank) {
          best = HeadField{part, place, form, "", ""};
          best_rank = rank;
        }
      }
    }
  }
  return best;
}

std::vector<std::uint64_t> Frame::places(std::uint64_t size) const {
  std::vector<std::uint64_t> all;
  for (const FrameWord& word : words_) all.push_back(word.value);
  auto look = [&](ByteView part, std::size_t begin, std::size_t end, bool wide) {
    for (NumberForm form : kForms) {
      if (form.width < 2 || (form.width >= 4) != wide) continue;
      for (std::size_t at = begin; at + form.width <= std::min(part.size(), end); ++at) {
        std::uint64_t value = read_number(part.data() + at, form);
        if (value >= 4 && value < size && std::find(all.begin(), all.end(), value) == all.end())
          all.push_back(value);
      }
    }
  };
  for (bool wide : {true, false}) {
    look(parts_[0], 0, kNear, wide);
    look(parts_[1], parts_[1].size() - std::min<std::size_t>(parts_[1].size(), kNear / 2), parts_[1].size(),
         wide);
    look(parts_[2], 0, kNear / 2, wide);
  }
  return all;
}

}  // namespace operculum::study
