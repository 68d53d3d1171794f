#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "study/grid.h"

namespace operculum::study {

/// Alignments of data that are tried, in bytes.
constexpr std::array<std::uint64_t, 4> kAlignments = {4, 16, 512, 2048};

/// What a column of an index seems to be.
enum class Role {
  offset,    ///< where an entry's data begins
  end_at,    ///< where it ends
  size,      ///< bytes that it takes in the file
  unpacked,  ///< bytes that it has when it is decoded
  name,      ///< a text that names it
  name_at,   ///< where its name begins, in a table of texts
  packing,   ///< which codec it is packed with
  sum,       ///< a checksum or digest of its bytes; `detail` tells which, of what
  time,      ///< seconds since 1970
  part,      ///< bytes of a part of the entry
  parent,    ///< which record it lies in
  depth,     ///< in how many folders it lies
  behind,    ///< which record lies behind all that lie in it
  first_in,  ///< which record lies in it first
  children,  ///< how many records lie in it
  next_in,   ///< which record is the next one in the same folder
  hash,      ///< a hash of its name; `detail` is what known() of the layout language is told
  other,     ///< not known
};
std::string_view name_of(Role role);

/// A field of every record.
struct Column {
  Role role = Role::other;
  std::size_t at = 0;                  ///< within the fixed bytes of a record
  NumberForm form;                     ///< of a number; of a digest its width is 0
  std::size_t width = 4;               ///< in bytes
  std::uint64_t factor = 1, mask = 0;  ///< the value is (number xor mask) * factor
  unsigned bits = 0;                   ///< of the number, its lowest ones; the others are flags. 0: all
  std::string detail;                  ///< of a text its filling, of packing the number that means packed
  std::string why;                     ///< the evidence, in words

  /// What a stored number comes to, in units of `factor`.
  std::uint64_t count_of(std::uint64_t stored) const {
    return bits == 0 ? stored ^ mask : stored & ((std::uint64_t{1} << bits) - 1);
  }
  std::uint64_t value(const Grid& grid, std::size_t row) const {
    return count_of(grid.value(row, at, form)) * factor;
  }
  /// The bits that are no part of the number.
  std::uint64_t flags(const Grid& grid, std::size_t row) const { return grid.value(row, at, form) >> bits; }
};

inline bool overlap(const Column& a, const Column& b) {
  return a.at < b.at + b.width && b.at < a.at + a.width;
}

/// Names of four bytes or fewer may be numbers whose bytes can be printed.
enum class ShortNames { are_texts, may_be_numbers };

/// Which fixed bytes of a record are part of none of these columns.
std::vector<bool> free_bytes(const std::vector<Column>& columns, std::size_t fixed, ShortNames names);

/// Whether a number may lie at `at` of a record: all its bytes are free, and no text of varying length is in
/// their midst.
bool may_lie(const Grid& grid, const std::vector<bool>& free, std::size_t at, NumberForm form);

/// Where the data of all entries lies, as offsets and sizes tell together.
struct Placement {
  std::optional<Column> offset, size;  ///< without the one, entries lie one behind the other; without the
                                       ///< other, each ends where the next one begins
  bool size_is_end = false;            ///< the second column tells where data ends
  std::int64_t bias = 0;               ///< bytes that a size counts beside the data
  bool counts_rest = false;            ///< a size counts all of the header that lies behind it, too
  std::uint64_t base = 0;              ///< added to offsets
  std::uint64_t begin = 0, end = 0;    ///< of all data, in the file that it lies in
  std::uint64_t align = 1;             ///< gaps between entries are smaller than this
  bool in_order = true;                ///< offsets ascend
  double bits = 0;                     ///< how unlikely chance is, as a logarithm
};

/// What the search for a placement may rely on.
struct Zone {
  std::uint64_t file_size = 0;                   ///< of the file that the data lies in
  std::uint64_t first = 0;                       ///< data cannot begin before this
  std::uint64_t table_begin = 0, table_end = 0;  ///< equal where the index is no part of that file
  std::span<const std::uint64_t> anchors = {};   ///< where something begins that is recognised, ascending
};

/// Two columns that are a place and a size together, or a place alone.
struct Pair {
  Column offset;
  std::optional<Column> size;
  bool size_is_end = false;
  int shift = 0;  ///< the size lies so many rows behind the offset: the rows were cut at the wrong byte
  double bits = 0;
};

/// Columns of the grid that place data, the likeliest first: wherever its rows were cut, if only at the right
/// distance. `free` tells which bytes of a row are nothing else, such as a name.
std::vector<Pair> find_pairs(const Grid& grid, std::uint64_t file_size, const std::vector<bool>& free);

/// Where such a pair (shift 0) puts the data; nothing when it cannot be there.
std::optional<Placement> place(const Grid& grid, const Zone& zone, const Pair& pair);

/// A column of sizes of data that lies one behind the other; nothing when there is none.
std::optional<Placement> place_by_sizes(const Grid& grid, const Zone& zone);

}  // namespace operculum::study
