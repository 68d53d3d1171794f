#include "codec/raw_blocks.h"

#include <fmt/format.h>
#include <lz4.h>
#include <lz4hc.h>
#include <lzo/lzo1x.h>

#include <algorithm>

#include "base/error.h"

namespace operculum {
namespace {

constexpr std::uint64_t kMostPacked = 64 << 20, kMostUnpacked = 256 << 20;

/// Decodes `packed` into at most `room` bytes; nothing when it does not fit or is damaged.
using Decode = std::optional<Bytes> (*)(ByteView packed, std::size_t room);

std::optional<Bytes> decode_lz4(ByteView packed, std::size_t room) {
  Bytes out(room);
  int count =
      LZ4_decompress_safe(reinterpret_cast<const char*>(packed.data()), reinterpret_cast<char*>(out.data()),
                          static_cast<int>(packed.size()), static_cast<int>(room));
  if (count < 0) return std::nullopt;
  out.resize(static_cast<std::size_t>(count));
  return out;
}

std::optional<Bytes> decode_lzo(ByteView packed, std::size_t room) {
  Bytes out(room);
  lzo_uint count = room;
  int result = lzo1x_decompress_safe(packed.data(), packed.size(), out.data(), &count, nullptr);
  if (result != LZO_E_OK && result != LZO_E_INPUT_NOT_CONSUMED) return std::nullopt;
  out.resize(count);
  return out;
}

/// A block that is decoded as a whole when its first byte is wanted.
class WholeBlock final : public Stream {
 public:
  using Unpack = std::function<Bytes(ByteView packed)>;
  WholeBlock(StreamPtr packed, Unpack unpack) : packed_(std::move(packed)), unpack_(std::move(unpack)) {}

  std::size_t read(ByteSpan out) override {
    if (packed_) {
      Bytes packed = read_all(*packed_, kMostPacked);
      packed_.reset();
      unpacked_ = unpack_(packed);
    }
    std::size_t count = std::min(out.size(), unpacked_.size() - at_);
    std::copy_n(unpacked_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  StreamPtr packed_;
  Unpack unpack_;
  Bytes unpacked_;
  std::size_t at_ = 0;
};

void check_size(std::string_view name, std::uint64_t size) {
  if (size > kMostUnpacked) throw LimitExceeded(fmt::format("a single {} block of more than 256 MiB", name));
}

/// Without a stated size the room grows until the block fits.
Bytes unpack_growing(std::string_view name, Decode decode, std::optional<std::uint64_t> size,
                     ByteView packed) {
  if (size) check_size(name, *size);
  std::uint64_t room = size.value_or(std::max<std::uint64_t>(packed.size() * 4, 4096));
  for (;; room *= 4) {
    room = std::min(room, kMostUnpacked);
    if (auto decoded = decode(packed, static_cast<std::size_t>(room))) return std::move(*decoded);
    bool hopeless = size || room == kMostUnpacked || room > packed.size() * 300 + 4096;
    if (hopeless)
      throw Malformed(fmt::format("{} data: it does not decode to {}; the data is damaged", name,
                                  size ? fmt::format("{} bytes", *size) : "anything"));
  }
}

StreamPtr open_growing(StreamPtr packed, std::string_view name, Decode decode,
                       std::optional<std::uint64_t> size) {
  return std::make_unique<WholeBlock>(
      std::move(packed), [=](ByteView block) { return unpack_growing(name, decode, size, block); });
}

}  // namespace

StreamPtr open_sized_block(StreamPtr packed, std::string_view name, std::optional<std::uint64_t> size,
                           BlockDecoder decode) {
  if (!size) throw Malformed(fmt::format("{}: its unpacked size has to be said", name));
  check_size(name, *size);
  return std::make_unique<WholeBlock>(
      std::move(packed), [name, decode = std::move(decode), size = *size](ByteView block) {
        Bytes out(static_cast<std::size_t>(size));
        std::size_t count = decode(block, out);
        if (count < out.size())
          throw Malformed(fmt::format("{} data: {} bytes come out, {} are expected; the data is damaged",
                                      name, count, size));
        return out;
      });
}

StreamPtr open_lz4_block(StreamPtr packed, std::optional<std::uint64_t> size) {
  return open_growing(std::move(packed), "LZ4 block", decode_lz4, size);
}

Bytes pack_lz4_block(ByteView plain, std::optional<int> level) {
  constexpr int kDense = 3;  // from here on the library's slower way is meant
  if (plain.size() > kMostUnpacked) throw Unsupported("a single LZ4 block of more than 256 MiB");
  auto size = static_cast<int>(plain.size());
  Bytes out(static_cast<std::size_t>(LZ4_compressBound(size)));
  const char* from = reinterpret_cast<const char*>(plain.data());
  char* to = reinterpret_cast<char*>(out.data());
  int made = level.value_or(0) >= kDense
                 ? LZ4_compress_HC(from, to, size, static_cast<int>(out.size()), *level)
                 : LZ4_compress_default(from, to, size, static_cast<int>(out.size()));
  if (made <= 0 && size > 0) throw Unsupported("packing this content as an LZ4 block");
  out.resize(static_cast<std::size_t>(made));
  return out;
}

Bytes pack_lzo(ByteView plain) {
  if (plain.size() > kMostUnpacked) throw Unsupported("a single LZO block of more than 256 MiB");
  Bytes out(plain.size() + plain.size() / 16 + 64 + 3);  // the bound that the library's manual gives
  Bytes work(LZO1X_999_MEM_COMPRESS);
  lzo_uint made = out.size();
  if (lzo1x_999_compress(plain.data(), plain.size(), out.data(), &made, work.data()) != LZO_E_OK)
    throw Unsupported("packing this content with LZO");
  out.resize(made);
  return out;
}

StreamPtr open_lzo(StreamPtr packed, std::optional<std::uint64_t> size) {
  return open_growing(std::move(packed), "LZO", decode_lzo, size);
}

}  // namespace operculum
