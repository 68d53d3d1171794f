#pragma once

#include "container/format.h"
#include "container/rewrite.h"
#include "io/extent_source.h"
#include "io/input_buffer.h"

namespace operculum {

/// What a format reads at the head of one entry: the entry, and how its data follows. Entry::offset is the
/// offset of the data in the container's bytes.
struct SequenceItem {
  Entry entry;
  std::uint64_t begin = 0;    ///< where its headers begin in the container's bytes
  std::uint64_t end = 0;      ///< behind its padding; 0: as the sizes below say
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

/// An entry as it lies in a sequence that is written again.
struct OldItem {
  const Entry& entry;
  ByteView headers;  ///< all bytes in front of its data
};

/// What is new about an entry that is there already; null for what stays.
struct ItemChange {
  const NewEntry* content = nullptr;
  std::uint64_t size = 0;  ///< of the content, in bytes
  const std::string* path = nullptr;
};

/// Makes headers of a sequence that is written again. One object makes one archive.
class SequenceEditor {
 public:
  virtual ~SequenceEditor() = default;
  /// The headers of an entry, what stays as it was.
  virtual Bytes changed_headers(const OldItem& old, const ItemChange& change) = 0;
  /// The headers of an entry that was not there; `like` has those of one that is, if any.
  virtual Bytes new_headers(const NewEntry& entry, std::uint64_t size, ByteView like) = 0;
  /// Bytes that fill up behind an entry whose headers and data are so long.
  virtual std::uint64_t padding(std::uint64_t length) const = 0;
  virtual Byte filler() const { return 0; }  ///< what fills up
  /// Bytes of filling that follow an archive of this size; nothing: whatever was there is kept.
  virtual std::optional<std::uint64_t> filling(std::uint64_t /*size*/, std::uint64_t /*old_size*/) const {
    return std::nullopt;
  }
  /// The bytes of an entry that has not only data: a link's target.
  virtual ContentPtr data_of(const NewEntry& entry) const { return entry.content; }
  /// Bytes that are no entry's and are not filling, such as the entry that ends a cpio archive: how many of
  /// `tail` are to be kept behind the last entry in front of the filling.
  virtual std::uint64_t trailer_size(ByteView /*tail*/) const { return 0; }
};
using MakeEditor = std::function<std::unique_ptr<SequenceEditor>()>;

/// A container whose entries lie one after another with no index: tar, cpio, ar. Over bytes with random
/// access each entry can be reached by itself; over a stream only in order, and a walk reads it once.
/// `checksums` in the items are verified while the data is read. Throws Malformed when the first header
/// cannot be read.
/// Without an editor the container cannot be written.
ContainerPtr make_sequence(const Input& input, OpenContext& context, MakeParser make_parser,
                           MakeEditor make_editor = nullptr);

}  // namespace operculum
