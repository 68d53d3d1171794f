#pragma once

#include "base/facts.h"
#include "container/format.h"
#include "container/rewrite.h"

namespace operculum {

/// What lies around the packed bytes of a member that is written again: a head that is kept, and a trailer
/// that is made anew.
struct Framing {
  std::uint64_t head_size = 0;  ///< in bytes
  std::string_view codec;       ///< of the bytes between
  std::uint64_t trailer_size = 0;
  Bytes (*trailer)(const PackedContent& packed) = nullptr;
  /// Puts the size of the whole member into its head, where that states it.
  void (*set_size)(ByteSpan head, std::uint64_t member_size) = nullptr;
};
/// The framing of a member that begins so. Throws Malformed.
using FindFraming = Framing (*)(ByteView front);

/// One of several members (frames, streams) of a file: where it lies, and what comes out of it; in bytes.
/// What lies between two is filling.
struct PackedMember {
  std::uint64_t at = 0, size = 0, plain_at = 0, plain_size = 0;
  std::uint64_t end() const { return at + size; }
};

/// What opening a single-stream file finds out beside its codec.
struct SingleStream {
  std::string_view codec;
  std::string name = {};                   ///< as stored in its header; empty: taken from the file's name
  std::optional<std::uint64_t> size = {};  ///< unpacked, in bytes, where it is stated
  Timestamp modified = {};
  std::string comment = {};
  std::uint64_t data_at = 0;  ///< bytes in front of what the codec reads, where that does not read them
  Bytes properties = {};      ///< of the codec, where they are not within its bytes
  std::vector<PackedMember> members =
      {};                 ///< where an index tells them; else they are looked for when needed
  SourcePtr random = {};  ///< random access to the unpacked bytes, where its index allows
  Facts facts = {};
  FindFraming framing_of = nullptr;  ///< where the codec's bytes are not all there is to write
};

/// A container of one entry, the unpacked bytes. `renamed` maps name endings to what they become: {".tgz",
/// ".tar"}.
ContainerPtr make_single_stream(const Input& input, SingleStream stream,
                                const std::vector<std::pair<std::string_view, std::string_view>>& renamed);

/// How a test of decoding the front of some bytes went.
enum class Trial {
  decodes,    ///< some bytes came out, or it ended properly
  too_short,  ///< nothing came out, because the front is too short to tell
  fails,
};
Trial try_decoding(std::string_view codec, Probe& probe, std::size_t wanted = 1);

}  // namespace operculum
