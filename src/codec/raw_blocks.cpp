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

class WholeBlock final : public Stream {
 public:
  WholeBlock(StreamPtr packed, std::string_view name, Decode decode, std::optional<std::uint64_t> size)
      : packed_(std::move(packed)), name_(name), decode_(decode), size_(size) {}

  std::size_t read(ByteSpan out) override {
    if (packed_) unpack();
    std::size_t count = std::min(out.size(), unpacked_.size() - at_);
    std::copy_n(unpacked_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  void unpack() {
    Bytes packed = read_all(*packed_, kMostPacked);
    packed_.reset();
    if (size_ && *size_ > kMostUnpacked)
      throw LimitExceeded(fmt::format("a single {} block of more than 256 MiB", name_));
    // without a stated size the room grows until the block fits
    std::uint64_t room = size_.value_or(std::max<std::uint64_t>(packed.size() * 4, 4096));
    for (;; room *= 4) {
      room = std::min(room, kMostUnpacked);
      auto decoded = decode_(packed, static_cast<std::size_t>(room));
      if (decoded) {
        unpacked_ = std::move(*decoded);
        return;
      }
      bool hopeless = size_ || room == kMostUnpacked || room > packed.size() * 300 + 4096;
      if (hopeless)
        throw Malformed(fmt::format("{} data: it does not decode to {}; the data is damaged", name_,
                                    size_ ? fmt::format("{} bytes", *size_) : "anything"));
    }
  }

  StreamPtr packed_;
  std::string_view name_;
  Decode decode_;
  std::optional<std::uint64_t> size_;
  Bytes unpacked_;
  std::size_t at_ = 0;
};

class SizedBlock final : public Stream {
 public:
  SizedBlock(StreamPtr packed, std::string_view name, std::uint64_t size, BlockDecoder decode)
      : packed_(std::move(packed)), name_(name), size_(size), decode_(std::move(decode)) {}

  std::size_t read(ByteSpan out) override {
    if (packed_) unpack();
    std::size_t count = std::min(out.size(), unpacked_.size() - at_);
    std::copy_n(unpacked_.begin() + static_cast<std::ptrdiff_t>(at_), count, out.begin());
    at_ += count;
    return count;
  }

 private:
  void unpack() {
    Bytes packed = read_all(*packed_, kMostPacked);
    packed_.reset();
    if (size_ > kMostUnpacked)
      throw LimitExceeded(fmt::format("a single {} block of more than 256 MiB", name_));
    unpacked_.resize(static_cast<std::size_t>(size_));
    std::size_t count = decode_(packed, unpacked_);
    if (count < unpacked_.size())
      throw Malformed(fmt::format("{} data: {} bytes come out, {} are expected; the data is damaged", name_,
                                  count, size_));
  }

  StreamPtr packed_;
  std::string_view name_;
  std::uint64_t size_;
  BlockDecoder decode_;
  Bytes unpacked_;
  std::size_t at_ = 0;
};

}  // namespace

StreamPtr open_sized_block(StreamPtr packed, std::string_view name, std::optional<std::uint64_t> size,
                           BlockDecoder decode) {
  if (!size) throw Malformed(fmt::format("{}: its unpacked size has to be said", name));
  return std::make_unique<SizedBlock>(std::move(packed), name, *size, std::move(decode));
}

StreamPtr open_lz4_block(StreamPtr packed, std::optional<std::uint64_t> size) {
  return std::make_unique<WholeBlock>(std::move(packed), "LZ4 block", decode_lz4, size);
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
  return std::make_unique<WholeBlock>(std::move(packed), "LZO", decode_lzo, size);
}

}  // namespace operculum
