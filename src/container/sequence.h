#pragma once

#include "container/format.h"
#include "io/extent_source.h"
#include "io/input_buffer.h"

namespace operculum {

/// What a format reads at the head of one entry: the entry, and how its data follows. Entry::offset is the
/// offset of the data in the container's bytes.
struct SequenceItem {
  Entry entry;
  std::uint64_t packed = 0;   ///< bytes of data that follow the header
  std::uint64_t padding = 0;  ///< bytes between the data and the next header
  std::vector<Extent>
      extents;  ///< for a sparse entry: where its packed bytes belong (stored = offset in them)
  std::optional<std::uint32_t> byte_sum;  ///< sum of all data bytes, where stored (cpio "crc")
  std::string_view sum = {};              ///< a name that find_sum() knows, where `digest` is stored
  Bytes digest = {};
};

/// Reads the headers of a container whose entries lie one after another. One object makes one pass.
class SequenceParser {
 public:
  virtual ~SequenceParser() = default;
  /// Reads the next header from `input`, which stands behind the previous entry's data and padding; false at
  /// the end. Throws Malformed when nothing more can be understood.
  virtual bool next(InputBuffer& input, SequenceItem& item) = 0;

  /// Told of oddities.
  std::function<void(Finding::Level, const std::string&)> report = [](Finding::Level, const std::string&) {};
};

using MakeParser = std::function<std::unique_ptr<SequenceParser>()>;

/// A container whose entries lie one after another with no index: tar, cpio, ar. Over bytes with random
/// access each entry can be reached by itself; over a stream only in order, and a walk reads it once.
/// `checksums` in the items are verified while the data is read. Throws Malformed when the first header
/// cannot be read.
ContainerPtr make_sequence(const Input& input, OpenContext& context, MakeParser make_parser);

}  // namespace operculum
