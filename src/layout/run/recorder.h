#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "io/source.h"

namespace operculum::layout {

struct NumberPlan;
struct TextPlan;
struct Recipe;

// Offsets are those of the container's own bytes. What is read of a decoded part or a further file that
// something stands in for (see StandIn) has offsets, too: those that the stand-in says.

/// A number that was read.
struct NumberRead {
  const NumberPlan* plan = nullptr;
  std::uint64_t at = 0;    ///< offset
  unsigned width = 0;      ///< bytes that it takes
  bool big = false;        ///< the byte order that was in force
  std::int64_t value = 0;  ///< as the description sees it
};

/// A text that was used, as it lies there; what ends it is not part of it.
struct TextRead {
  const TextPlan* plan = nullptr;
  std::uint64_t at = 0, length = 0;
  std::size_t numbers = 0;  ///< how many numbers had been read then
};

/// Bytes between two offsets.
struct RangeRead {
  std::uint64_t at = 0, length = 0;
  std::size_t numbers = 0;  ///< how many had been read when it was gone to
};

/// Something that was read at a stated offset.
struct PlacedAt {
  std::int64_t stated = 0;     ///< the number
  std::uint64_t position = 0;  ///< where that is
  std::size_t numbers = 0;     ///< how many had been read when it was gone to
};

/// A part that was decoded so that it could be read.
struct PartMade {
  std::size_t ordinal = 0;  ///< of all parts that were decoded
  std::shared_ptr<const Recipe> recipe;
  std::size_t numbers = 0;  ///< how many had been read then
};

/// A list of things that lie one after another.
struct ListSeen {
  std::vector<std::uint64_t> begins;  ///< of its elements
  std::uint64_t end = 0;              ///< of the last one
  std::size_t numbers = 0;            ///< how many had been read before its first
  bool counted = false;               ///< a number says how many they are
};

/// A file beside the container.
struct FileRead {
  std::string name;
  SourcePtr source;
};

/// What reading compared with what: where a container is made up, that tells what its bytes have to be.
struct Compared {
  template <typename T>
  struct Pair {
    T left, right;
  };
  struct Constant {
    std::uint64_t at;  ///< offset
    std::string bytes;
  };
  std::vector<Pair<std::int64_t>> numbers;  ///< a number that is out of bounds with the nearest one within
  std::vector<Pair<std::string>> texts;     ///< and bytes
  std::vector<Constant> constants;          ///< bytes that have to stand somewhere, whether they do or not
};

/// What a description reads of the container's own bytes, in order: so that it can be found out what has to
/// change when something in it changes.
struct Recorder {
  std::shared_ptr<const void> owner;  ///< of what the parts' recipes read from; goes last
  std::vector<NumberRead> numbers;
  std::vector<TextRead> texts;
  std::vector<RangeRead> runs;     ///< bytes whose length a field or expression gives
  std::vector<RangeRead> withins;  ///< parts that a stated size bounds
  std::vector<PlacedAt> placed;
  std::vector<ListSeen> lists;
  std::vector<PartMade> parts;
  std::vector<FileRead> files;   ///< each once
  Compared* compared = nullptr;  ///< kept there, where it is wanted; must outlive the reading

  /// The part that was decoded as that one of all; null when it was not.
  const PartMade* part(std::size_t ordinal) const {
    for (const PartMade& made : parts)
      if (made.ordinal == ordinal) return &made;
    return nullptr;
  }
};

}  // namespace operculum::layout
