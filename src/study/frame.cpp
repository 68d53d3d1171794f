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

std::shared_ptr<const Frame::Parts> Frame::read_parts(const Subject& subject, const Space& space) {
  auto parts = std::make_shared<Parts>();
  std::uint64_t size = subject.size(), tail = std::min<std::uint64_t>(kTail, size);
  parts->bytes[0] = subject.read(0, kHead);
  parts->bytes[1] = subject.read(size - tail, tail);
  if (!space.plain)
    parts->bytes[2].assign(space.bytes.begin(), space.bytes.begin() + static_cast<std::ptrdiff_t>(std::min(
                                                                          space.bytes.size(), kHead)));
  for (Part part : {Part::head, Part::tail, Part::index}) {
    const Bytes& bytes = parts->bytes[static_cast<std::size_t>(part)];
    for (NumberForm form : kForms)
      for (std::size_t at = 0; at + form.width <= bytes.size(); ++at)
        parts->numbers.push_back(
            {read_number(bytes.data() + at, form), part, static_cast<std::uint16_t>(at), form});
  }
  std::stable_sort(parts->numbers.begin(), parts->numbers.end(),
                   [](const Number& a, const Number& b) { return a.value < b.value; });
  return parts;
}

Frame::Frame(const Subject& subject, const SpacePtr& space)
    : parts_(read_parts(subject, *space)), size_(subject.size()), anchors_(subject.anchors) {
  for (std::size_t i = 0; i < 3; ++i) limits_[i] = parts_->bytes[i].size();
}

Frame Frame::narrowed(std::uint64_t head_end, std::uint64_t tail_begin, std::uint64_t index_end) const {
  Frame frame = *this;
  frame.limits_[0] = std::min<std::uint64_t>(parts_->bytes[0].size(), head_end);
  frame.limits_[1] = std::min<std::uint64_t>(parts_->bytes[1].size(), size_ - std::min(size_, tail_begin));
  frame.limits_[2] = std::min<std::uint64_t>(parts_->bytes[2].size(), index_end);
  return frame;
}

/// Whether a number lies where one of its width may mean something.
bool Frame::is_within(const Number& number) const {
  std::uint64_t size = parts_->bytes[static_cast<std::size_t>(number.part)].size(),
                limit = limits_[static_cast<std::size_t>(number.part)], width = number.form.width;
  if (number.part == Part::tail) {
    std::uint64_t reach = width == 1 ? 16 : width == 2 ? 32 : size;
    return number.at >= std::max(size - limit, size - std::min(size, reach)) && number.at + width <= size;
  }
  std::uint64_t reach = width == 1 ? 16 : width == 2 ? 32 : limit;
  return number.at + width <= std::min(limit, reach);
}

/// How likely it is that this one is meant, among those of the same value.
int Frame::rank_of(const Number& number, bool big) const {
  unsigned width = number.form.width;
  int rank = width == 1 ? -6 : width == 2 ? 2 : 4;
  rank += width > 1 && number.form.big == big ? 2 : 0;
  rank += number.at % width == 0 ? 2 : number.at % 2 == 0 ? 1 : 0;
  rank += number.part == Part::index ? 1 : 0;
  return rank - (number.at > 64 && number.part != Part::tail ? 3 : 0);
}

std::optional<HeadField> Frame::find(std::uint64_t value, const std::vector<HeadField>& used,
                                     bool big) const {
  for (const FrameWord& word : words_) {
    bool taken =
        std::any_of(used.begin(), used.end(), [&](const HeadField& one) { return one.at == word.place; });
    if (word.value == value && !taken) return HeadField{Part::head, word.place, {1, false}, "", ""};
  }
  auto [first, last] =
      std::equal_range(parts_->numbers.begin(), parts_->numbers.end(), Number{value, {}, 0, {}},
                       [](const Number& a, const Number& b) { return a.value < b.value; });
  std::optional<HeadField> best;
  int best_rank = -100;
  for (auto number = first; number != last; ++number) {
    const Bytes& bytes = parts_->bytes[static_cast<std::size_t>(number->part)];
    unsigned width = number->form.width;
    if (!is_within(*number) || (width < 4 && is_in_text(bytes, number->at, width))) continue;
    std::uint64_t place = number->part == Part::tail ? bytes.size() - number->at : number->at;
    if (std::any_of(used.begin(), used.end(),
                    [&](const HeadField& one) { return overlaps(one, number->part, place, width); }))
      continue;
    int rank = rank_of(*number, big);
    if (rank <= best_rank) continue;
    best = HeadField{number->part, place, number->form, "", ""};
    best_rank = rank;
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
    look(parts_->bytes[0], 0, kNear, wide);
    look(parts_->bytes[1],
         parts_->bytes[1].size() - std::min<std::size_t>(parts_->bytes[1].size(), kNear / 2),
         parts_->bytes[1].size(), wide);
    look(parts_->bytes[2], 0, kNear / 2, wide);
  }
  return all;
}

std::vector<std::uint64_t> Frame::places_of_tail(std::uint64_t size) const {
  std::vector<std::uint64_t> all;
  const Bytes& tail = parts_->bytes[static_cast<std::size_t>(Part::tail)];
  for (NumberForm form : kForms) {
    if (form.width < 4) continue;
    for (std::size_t back = form.width; back <= std::min<std::size_t>(tail.size(), kNear / 2); ++back) {
      std::uint64_t value = read_number(tail.data() + tail.size() - back, form);
      if (value >= 4 && value < size && std::find(all.begin(), all.end(), value) == all.end())
        all.push_back(value);
    }
  }
  return all;
}

}  // namespace operculum::study
