#pragma once

#include <string_view>
#include <vector>

#include "study/number_form.h"
#include "study/subject.h"

namespace operculum::study {

/// How a record's text of varying length ends: `word` is one of a line of words, whose numbers are digits;
/// of a `counted` one the length takes as many bytes as it needs, as other numbers do.
enum class TextEnd { none, sized, zero, word, counted };

/// Where another text stands in a record with a text that ends with a zero. It ends with one, too, and may be
/// empty.
enum class OtherText { none, in_front, at_end };

/// What a word of an index that is written as text is.
enum class WordKind { text, decimal, hexadecimal };

/// Bytes that a number takes in the cells where it is held in another way in the records.
constexpr std::size_t kDecodedCell = 8;

/// The shape of the records of an index: so many fixed bytes, in their midst perhaps a text of varying
/// length.
struct Shape {
  std::size_t before = 0, after = 0;  ///< fixed bytes in front of and behind the text, without its length
  TextEnd text = TextEnd::none;
  NumberForm length;   ///< of the text, where it is sized
  unsigned unit = 1;   ///< bytes that one of that length counts
  unsigned align = 1;  ///< records are filled up to a multiple of this, counted from the start of the first
  bool data_behind = false;           ///< each record is a header, and its data lies behind it
  OtherText other = OtherText::none;  ///< right in front of the text, or behind all else

  std::size_t fixed() const { return before + after; }
  bool operator==(const Shape&) const = default;
};

/// Records of one shape, laid out so that columns can be read: what all ways of finding an index come down
/// to.
struct Grid {
  SpacePtr space;
  Shape shape;
  std::uint64_t begin = 0, end = 0;  ///< of the table, in the space
  std::uint64_t count = 0;   ///< of all records; the first `rows()` of them are here, and the last ones
  std::size_t break_at = 0;  ///< rows from this one on are the last ones; rows() where none are left out
  Bytes cells;               ///< rows() times shape.fixed() bytes
  std::vector<std::string> texts;           ///< where the shape has one
  std::vector<std::uint64_t> starts, ends;  ///< of the records, where they vary
  std::vector<WordKind>
      words;  ///< of each line, where records are that: each number takes 8 of the cells' bytes
  std::vector<WordKind> head_words;  ///< in front of the first line

  std::string_view varints;  ///< the type of numbers that take as many bytes as they need, where records hold
                             ///< such: each takes 8 of the cells' bytes
  std::size_t varints_end = 0;  ///< of the cells: fixed bytes are behind it
  /// Whether cells hold what was made of the records' bytes.
  bool decoded() const { return !words.empty() || !varints.empty(); }

  std::size_t rows() const { return shape.fixed() == 0 ? texts.size() : cells.size() / shape.fixed(); }
  const Byte* row(std::size_t i) const { return cells.data() + i * shape.fixed(); }
  std::uint64_t value(std::size_t row_number, std::size_t at, NumberForm form) const {
    return read_number(row(row_number) + at, form);
  }
  /// Where a row's record begins, in the space.
  std::uint64_t start(std::size_t i) const {
    if (!starts.empty()) return starts[i];
    std::uint64_t number = i < break_at ? i : count - (rows() - i);
    return begin + number * shape.fixed();
  }
  bool complete() const { return break_at == rows(); }
  bool varies() const { return shape.text != TextEnd::none || shape.data_behind; }
};

/// Adds a decoded number to cells.
void put_decoded(Bytes& cells, std::uint64_t value);

/// Up to `count` bytes of a space, fewer at its end: a plain one goes on in the file beyond what was read of
/// it.
Bytes bytes_of(const Space& space, const Subject& subject, std::uint64_t at, std::uint64_t count);

/// `count` records of `stride` bytes from `begin` on: at most `most` of them are read. Empty when they do not
/// lie in the space.
Grid fixed_grid(const SpacePtr& space, const Subject& subject, std::uint64_t begin, std::size_t stride,
                std::uint64_t count, std::size_t most);

/// Records with a text, as many as fit, at most `most_count`: the last one's may be empty, where texts end
/// with a zero.
Grid text_grid(const SpacePtr& space, std::uint64_t begin, const Shape& shape, std::uint64_t most_count);

}  // namespace operculum::study
