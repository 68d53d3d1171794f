#pragma once

#include <cstdint>
#include <vector>

namespace operculum::layout {

struct NumberPlan;
struct TextPlan;

/// A number that was read from the container's own bytes.
struct NumberRead {
  const NumberPlan* plan = nullptr;
  std::uint64_t at = 0;    ///< offset in the container
  unsigned width = 0;      ///< bytes that it takes
  bool big = false;        ///< the byte order that was in force
  std::int64_t value = 0;  ///< as the description sees it
};

/// A text that was used, as it lies in the container's own bytes; what ends it is not part of it.
struct TextRead {
  const TextPlan* plan = nullptr;
  std::uint64_t at = 0, length = 0;
  std::size_t numbers = 0;  ///< how many numbers had been read then
};

/// Bytes of the container between two offsets.
struct RangeRead {
  std::uint64_t at = 0, length = 0;
  std::size_t numbers = 0;  ///< how many had been read when it was gone to
};

/// Something that was read at a stated offset.
struct PlacedAt {
  std::int64_t stated = 0;     ///< the number
  std::uint64_t position = 0;  ///< where that is in the container
  std::size_t numbers = 0;     ///< how many had been read when it was gone to
};

/// A list of things that lie one after another.
struct ListSeen {
  std::vector<std::uint64_t> begins;  ///< of its elements
  std::uint64_t end = 0;              ///< of the last one
  std::size_t numbers = 0;            ///< how many had been read before its first
  bool counted = false;               ///< a number says how many they are
};

/// What a description reads of the container's own bytes, in order: so that it can be found out what has to
/// change when something in it changes.
struct Recorder {
  std::vector<NumberRead> numbers;
  std::vector<TextRead> texts;
  std::vector<RangeRead> runs;     ///< bytes whose length a field or expression gives
  std::vector<RangeRead> withins;  ///< parts that a stated size bounds
  std::vector<PlacedAt> placed;
  std::vector<ListSeen> lists;
};

}  // namespace operculum::layout
