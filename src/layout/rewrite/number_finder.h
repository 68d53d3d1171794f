#pragma once

#include <map>
#include <span>
#include <tuple>

#include "layout/rewrite/described_rewrite.h"

namespace operculum::layout {

/// What of an entry a number may tell.
enum class Measure { offset, length, size };

/// A number of the container that an entry's measure follows: when it grows by `unit`, that grows by `step`.
/// A unit of more than 1 is that of a number in the higher bits of a word.
struct Driver {
  NumberRead read;
  std::int64_t step = 1, unit = 1;
  bool seen = true;  ///< that it does; false: it is likely by its place and value
  std::optional<std::size_t> place =
      {};  ///< among the numbers that were read for the entry, when it is one of them
};

/// The number with this value that was read last of the first `count`; null when there is none.
const NumberRead* last_equal(std::span<const NumberRead> numbers, std::int64_t value, std::size_t count);

/// Finds out which numbers tell what, by changing one and looking what becomes of the entry. An index behind
/// those of all entries is that of a part that is laid open, as in Survey.
class NumberFinder {
 public:
  /// Both must outlive it; `head` is what was read until all entries were listed.
  NumberFinder(const DescribedFile& file, const Recorder& head, std::span<const Entry> entries)
      : file_(file), head_(head) {
    for (const Entry& entry : entries) paths_.push_back(entry.path);
  }

  /// Nothing when no number drives it: then it follows from what lies in front, or lies in bytes that are
  /// decoded.
  std::optional<Driver> driver(const EntryLook& look, std::size_t index, Measure measure);  ///< tried once

  /// The number of another entry that is read as those known ones are.
  std::optional<Driver> like_others(const EntryLook& look, std::size_t index,
                                    const std::map<std::size_t, Driver>& known);

  /// The number with this value that was read last of the first `count` of the head; null when there is none.
  const NumberRead* last_equal(std::int64_t value, std::size_t count) const {
    return layout::last_equal(head_.numbers, value, count);
  }

 private:
  /// All measures of an entry; nothing where one is not there.
  struct Measures {
    std::optional<std::int64_t> offset, length, size;
  };
  static Measures measures_of(const EntryLook& look, const Source& base);
  /// What a number that was changed by so much made of the container.
  struct Trial {
    bool readable = true;                                       ///< with the same entries
    std::map<std::size_t, std::optional<Measures>> known = {};  ///< by entry
  };
  std::optional<Measures> measured(std::size_t index, const SourcePtr& source, Trial& trial) const;
  std::optional<Measures> changed(const NumberRead& read, std::size_t index, std::int64_t change);
  template <typename Of>
  bool follows_evenly(const NumberRead& read, std::size_t index, std::int64_t change, std::int64_t step,
                      Of of, const Measures& now);
  std::optional<Driver> tried(const NumberRead& read, std::size_t index, Measure measure,
                              const Measures& now);

  static std::optional<Driver> place_of_record(const EntryLook& look, std::int64_t at);
  std::vector<std::size_t> to_try(const std::vector<NumberRead>& own) const;
  std::optional<Driver> own_driver(const EntryLook& look, std::size_t index, Measure measure,
                                   const Measures& now);
  std::optional<Driver> find_driver(const EntryLook& look, std::size_t index, Measure measure);
  std::vector<const NumberRead*> equal_numbers(std::int64_t value, std::uint64_t at) const;
  std::optional<Driver> found_or_missed(const EntryLook& look, std::size_t index);

  const DescribedFile& file_;
  const Recorder& head_;
  std::map<std::pair<std::size_t, Measure>, std::optional<Driver>> known_;
  std::map<std::tuple<std::uint64_t, const NumberPlan*, std::int64_t, bool>, Trial>
      trials_;  // by the number's offset, how it is read, the change, and room: measures and entries share
                // them
  bool with_room_ = false;  // behind the end of the file
  std::size_t misses_ = 0;
  std::vector<std::string> paths_;  // of all entries: no number that changes one of these is the right one
};

}  // namespace operculum::layout
