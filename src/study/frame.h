#pragma once

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "study/number_form.h"
#include "study/subject.h"

namespace operculum::study {

/// Where numbers about the whole lie.
enum class Part {
  head,   ///< at the begin of the file
  tail,   ///< at its end
  index,  ///< at the begin of an index that was decoded
};

/// A number about the whole: how many entries, where the table is.
struct HeadField {
  Part part = Part::head;
  std::uint64_t at = 0;  ///< from the begin of its part; of the tail, bytes before the end of the file
  NumberForm form;
  std::string name;  ///< what it tells: "count"
  std::string why;
};

/// A number in a header that is written as text, and which of its words that is.
struct FrameWord {
  std::size_t place;
  std::uint64_t value;
};

/// By part, and from its begin to its end.
std::vector<HeadField> sorted(std::vector<HeadField> fields);

/// The header and the trailer of a file, and of its index where that is made of something: numbers are looked
/// up in them by what they would have to be. The subject outlives it.
class Frame {
 public:
  Frame(const Subject& subject, const SpacePtr& space);
  /// Of a header that is words: a field's place is then that of its word.
  Frame(const Subject& subject, std::vector<FrameWord> words)
      : words_(std::move(words)), size_(subject.size()), anchors_(subject.anchors) {}

  /// The same, narrowed down to bytes that are neither records nor data: the head ends at `head_end`, the
  /// tail begins at `tail_begin`, both in the file; that of the index ends at `index_end` in the space.
  Frame narrowed(std::uint64_t head_end, std::uint64_t tail_begin, std::uint64_t index_end) const;

  /// The likeliest number of that value that is not part of `used`; nothing when there is none.
  std::optional<HeadField> find(std::uint64_t value, const std::vector<HeadField>& used, bool big) const;

  /// Numbers that could be places within `size` bytes, each once, those of four bytes and more
  /// first.
  std::vector<std::uint64_t> places(std::uint64_t size) const;
  /// Those of four bytes and more in the trailer alone, the last ones first: where data stands at the front,
  /// it is full of numbers that could be places, too.
  std::vector<std::uint64_t> places_of_tail(std::uint64_t size) const;

  std::uint64_t file_size() const { return size_; }
  std::span<const std::uint64_t> anchors() const { return anchors_; }  ///< the subject's

  static constexpr std::size_t kHead = 256, kTail = 64;  // bytes

 private:
  /// A number that stands somewhere, in one of the forms.
  struct Number {
    std::uint64_t value;
    Part part;
    std::uint16_t at;  ///< from the begin of the part's bytes
    NumberForm form;
  };
  /// What all frames of a space have in common.
  struct Parts {
    Bytes bytes[3];
    std::vector<Number> numbers;  ///< by value; of equal ones in the order in which they are preferred
  };
  static std::shared_ptr<const Parts> read_parts(const Subject& subject, const Space& space);
  bool is_within(const Number& number) const;
  int rank_of(const Number& number, bool big) const;

  std::shared_ptr<const Parts> parts_ = std::make_shared<Parts>();
  std::vector<FrameWord> words_;
  std::uint64_t limits_[3] = {};  // bytes that count: of the tail, the last ones
  std::uint64_t size_;
  std::span<const std::uint64_t> anchors_;
};

}  // namespace operculum::study
