#pragma once

#include <memory>
#include <optional>
#include <string>

#include "base/bytes.h"

namespace operculum {

class Source;

/// Bytes that lie, as they are, in another source.
struct SourceRun {
  const Source* source = nullptr;  ///< borrowed from the source that was asked
  std::uint64_t at = 0;            ///< offset in it
  std::uint64_t length = 0;        ///< in bytes, at least 1
};

/// Read-only bytes with random access and a known size: a file, a part of one, several joined, memory, a
/// decoded block image. All members are const and safe to call from several threads at once.
class Source {
 public:
  virtual ~Source() = default;

  virtual std::uint64_t size() const = 0;  ///< in bytes

  /// Fills `out` from `offset`; returns how many bytes there were. Short only at the end of the source, never
  /// an error; an operating-system error throws IoError, damage in a decoded source throws Malformed.
  virtual std::size_t read_at(std::uint64_t offset, ByteSpan out) const = 0;

  /// How many zeros begin at `offset` that are stored nowhere (a hole); 0 where there are none. May tell
  /// fewer than there are, never more.
  virtual std::uint64_t hole_at(std::uint64_t /*offset*/) const { return 0; }

  /// All bytes without a copy, where they already lie in memory.
  virtual std::optional<ByteView> view() const { return std::nullopt; }

  /// Where the bytes from `offset` on lie in the source that this one is made of; nothing at the end, and
  /// where they are decoded or this source's own.
  virtual std::optional<SourceRun> origin_at(std::uint64_t /*offset*/) const { return std::nullopt; }

  /// The descriptor whose bytes these are, offset by offset, for copying within the kernel; -1 for all but
  /// files. Borrowed.
  virtual int descriptor() const { return -1; }

  /// How many bytes may have to be decoded for one of them; 0: they lie there.
  virtual std::uint64_t grain() const { return 0; }

  /// True when reading decodes blocks: fine for one entry, but whoever wants everything should read a stream.
  bool costly() const { return grain() > 0; }
};

using SourcePtr = std::shared_ptr<const Source>;

/// Up to `count` bytes at `offset`, fewer at the end of the source.
Bytes read_up_to(const Source& source, std::uint64_t offset, std::uint64_t count);

/// Exactly `count` bytes at `offset`; throws Malformed naming `what` when the source ends before that.
Bytes read_exactly(const Source& source, std::uint64_t offset, std::uint64_t count, std::string_view what);

/// Where the hole at the end of a source begins; its size where there is none.
std::uint64_t end_of_data(const Source& source);

/// Where the bytes of `source` from `offset` on, which it has, come from: followed through however many
/// sources, to `base` or, when they do not lie there, to the last one that holds them.
SourceRun follow(const Source& source, std::uint64_t offset, const Source& base);
/// The same; nothing where they do not lie in `base`.
std::optional<SourceRun> trace(const Source& source, std::uint64_t offset, const Source& base);

SourcePtr make_memory_source(Bytes bytes);

/// `length` bytes of `whole` from `offset`, clipped to what is there; a slice of a slice does not nest.
SourcePtr make_slice(SourcePtr whole, std::uint64_t offset, std::uint64_t length);

/// Several sources read as one, in order.
SourcePtr make_joined(std::vector<SourcePtr> parts);

}  // namespace operculum
