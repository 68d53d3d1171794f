#include "codec/mszip.h"

#include <fmt/format.h>
#include <libdeflate.h>

#include <algorithm>
#include <cstring>
#include <new>

#include "base/error.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "CK";
constexpr std::size_t kStoredHeader = 5;  // of a deflate block that is not packed

}  // namespace

MszipDecoder::MszipDecoder() : decompressor_(libdeflate_alloc_decompressor()), out_(2 * kBlock) {
  if (decompressor_ == nullptr) throw std::bad_alloc();
  in_.resize(kStoredHeader + kBlock + 2 * kBlock);
}

MszipDecoder::~MszipDecoder() {
  libdeflate_free_decompressor(decompressor_);
}

// The library knows no preset history, so it is given as a stored block in front of the data: that costs a
// copy, which is little beside decoding.
ByteView MszipDecoder::decode_block(ByteView packed, std::size_t size) {
  if (!starts_with(packed, kMark))
    throw Malformed("MSZIP data: the mark \"CK\" is missing in front of a block; the data is damaged");
  packed = packed.subspan(kMark.size());
  if (size > kBlock || packed.size() > 2 * kBlock)
    throw Malformed(fmt::format("MSZIP data: a block of {} bytes", size));
  std::size_t front = 0;
  if (history_ != 0) {
    auto length = static_cast<std::uint16_t>(history_);
    const Byte header[kStoredHeader] = {0, static_cast<Byte>(length & 0xFF), static_cast<Byte>(length >> 8),
                                        static_cast<Byte>(~length & 0xFF),
                                        static_cast<Byte>((~length >> 8) & 0xFF)};
    std::memcpy(in_.data(), header, kStoredHeader);
    front = kStoredHeader + history_;
  }
  std::memcpy(in_.data() + front, packed.data(), packed.size());
  std::size_t made = 0;
  auto result = libdeflate_deflate_decompress(decompressor_, in_.data(), front + packed.size(), out_.data(),
                                              history_ + size, &made);
  if (result != LIBDEFLATE_SUCCESS || made != history_ + size)
    throw Malformed("MSZIP data: a block does not decode to its stated size; the data is damaged");
  std::size_t begin = history_;
  history_ = std::min(made, kBlock);
  std::memcpy(in_.data() + kStoredHeader, out_.data() + made - history_, history_);
  return ByteView(out_).subspan(begin, size);
}

}  // namespace operculum
