#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>

#include "codec/pack_settings.h"
#include "io/stream.h"

namespace operculum {

/// What a decoder may need besides its input.
struct CodecOptions {
  Bytes properties;                              ///< codec properties kept by the container (LZMA: 5 bytes)
  std::optional<std::uint64_t> unpacked_size;    ///< in bytes, where the container says it
  std::function<void(const std::string&)> note;  ///< told of harmless oddities, such as bytes after the end
  /// Told where each member (frame, stream) of several ends: how many packed and plain bytes there were so
  /// far.
  std::function<void(std::uint64_t packed, std::uint64_t plain)> member_ended = {};
};

/// One way of packing bytes, by name. `open` reads packed bytes and yields unpacked ones; `whole` decodes a
/// buffer at once and is only there where that is faster: it fills exactly `out` or returns false, and then
/// `open` will tell what is wrong; `pack` reads plain bytes and yields packed ones, and is only there where
/// we write.
struct Codec {
  std::string_view name;
  StreamPtr (*open)(StreamPtr packed, const CodecOptions& options);
  bool (*whole)(ByteView packed, ByteSpan out) = nullptr;
  StreamPtr (*pack)(StreamPtr plain, const PackSettings& settings) = nullptr;
};

/// The table entry, or nothing.
const Codec* find_codec(std::string_view name);

/// A stream of the unpacked bytes; throws Unsupported when there is no such codec.
StreamPtr open_decoder(std::string_view name, StreamPtr packed, const CodecOptions& options = {});

/// Like open_decoder for an entry of `unpacked_size` bytes: when the first read() offers room for all of it,
/// it is decoded there in one go, without a copy.
StreamPtr open_sized_decoder(const Codec& codec, SourcePtr packed, std::uint64_t unpacked_size,
                             CodecOptions options);

/// A stream of the packed bytes; throws Unsupported when that codec does not write.
StreamPtr open_encoder(std::string_view name, StreamPtr plain, const PackSettings& settings = {});

/// `plain` packed by the named codec; throws Unsupported when that codec does not write.
Bytes encode(std::string_view name, ByteView plain, PackSettings settings = {});

/// What the end of a stream is compared with.
struct Expected {
  std::optional<std::uint64_t> size;  ///< in bytes
  std::optional<std::uint32_t> crc32;
  std::string_view sum = {};  ///< a name that find_sum() knows; empty: no other checksum
  Bytes digest = {};          ///< its result
};

/// Passes `inner` on and, at its end, throws Malformed when size or checksums differ from what is expected;
/// also as soon as there are more bytes than expected.
StreamPtr make_checked(StreamPtr inner, const Expected& expected);
/// The same whenever `inner` is read; from the front only, for a part of it tells nothing.
ContentPtr make_checked(ContentPtr inner, const Expected& expected);

}  // namespace operculum
