#include "format/archive/zip_packer.h"

#include <fmt/format.h>
#include <openssl/rand.h>

#include <algorithm>
#include <array>

#include "base/checksum.h"
#include "base/error.h"
#include "cipher/zip_traditional.h"
#include "codec/codec.h"

namespace operculum::zip {
namespace {

constexpr std::size_t kBuffer = 256 * 1024;
constexpr std::array<Byte, 2> kLzmaVersion = {9, 20};  // of the LZMA SDK whose form it is (5.8.8)
constexpr std::size_t kPropertiesSize = 5;

Bytes random_bytes(std::size_t count) {
  Bytes bytes(count);
  if (RAND_bytes(bytes.data(), static_cast<int>(count)) != 1)
    throw Unsupported("encrypting without a source of random numbers");
  return bytes;
}

/// Spools `source` changed by `change`, with `front` before and what `back` gives behind.
template <typename Change, typename Back>
SourcePtr transformed(const Source& source, const Bytes& front, Change change, Back back,
                      SpoolBudget& spool) {
  SpoolWriter out(spool);
  out.append(front);
  Bytes buffer(kBuffer);
  for (std::uint64_t at = 0; at < source.size();) {
    std::size_t count = source.read_at(at, buffer);
    if (count == 0) throw CutShort("the packed content became shorter while it was encrypted");
    change(ByteSpan(buffer).first(count));
    out.append(ByteView(buffer).first(count));
    at += count;
  }
  out.append(back());
  return out.finish();
}

SourcePtr encrypted_traditionally(const Source& plain, const DataForm& form, std::uint32_t crc,
                                  SpoolBudget& spool) {
  ZipTraditional cipher(form.password);
  Bytes header = random_bytes(ZipTraditional::kHeader);
  bool streamed = (form.flags & descriptor_bit) != 0;  // 6.1.6: the CRC was not known then
  header.back() = static_cast<Byte>(streamed ? form.time >> 8 : crc >> 24);
  auto encrypt = [&](ByteSpan bytes) {
    for (Byte& b : bytes) b = cipher.encrypt(b);
  };
  encrypt(header);
  return transformed(
      plain, header, encrypt, [] { return Bytes(); }, spool);
}

SourcePtr encrypted_by_aes(const Source& plain, const ZipAes& aes, const std::string& password,
                           SpoolBudget& spool) {
  Bytes front = random_bytes(aes.salt_size());
  ZipAes::Keys keys = aes.derive(password, front);
  front.insert(front.end(), keys.verifier.begin(), keys.verifier.end());
  ZipAes::Encryption encryption(keys);
  return transformed(
      plain, front, [&](ByteSpan bytes) { encryption.apply(bytes); }, [&] { return encryption.code(); },
      spool);
}

/// LZMA data has four bytes in front of its properties.
SourcePtr with_lzma_head(const SourcePtr& packed, const Bytes& version) {
  Bytes head =
      version.size() == kLzmaVersion.size() ? version : Bytes(kLzmaVersion.begin(), kLzmaVersion.end());
  head.push_back(kPropertiesSize);
  head.push_back(0);
  return make_joined({make_memory_source(std::move(head)), packed});
}

}  // namespace

PackedContent pack_data(const Content& content, const DataForm& form, SpoolBudget& spool) {
  const Method& method = method_of(form.method);
  const Codec* codec = method.codec.empty() ? nullptr : find_codec(method.codec);
  if (codec == nullptr || codec->pack == nullptr) {
    throw Unsupported(fmt::format(
        "packing with ZIP method {} ({}); --method deflate packs it so that every reader knows it",
        form.method, method.name));
  }
  PackedContent packed = pack_content(content, method.codec, form.settings, spool);
  SourcePtr bytes =
      form.method == kMethodLzma ? with_lzma_head(packed.bytes, form.lzma_version) : packed.bytes;
  if ((form.flags & encrypted_bit) != 0) {
    bytes = form.aes ? encrypted_by_aes(*bytes, *form.aes, form.password, spool)
                     : encrypted_traditionally(*bytes, form, packed.crc32, spool);
  }
  packed.bytes = std::move(bytes);
  return packed;
}

std::uint16_t method_flags(std::uint16_t method, const PackSettings& settings) {
  if (method == kMethodLzma) return settings.end_mark.value_or(true) ? lzma_end_mark_bit : 0;
  if (method != kMethodDeflate) return 0;
  constexpr std::uint16_t kMaximum = 2, kFast = 4, kSuperFast = 6;
  int level = settings.level.value_or(6);
  return level >= 8 ? kMaximum : level == 2 ? kFast : level == 1 ? kSuperFast : 0;
}

std::uint16_t version_for(std::uint16_t method, bool encrypted) {
  struct Version {
    std::uint16_t method, version;
  };
  static constexpr Version kVersions[] = {{0, 10}, {8, 20}, {9, 21}, {12, 46}, {14, 63}, {93, 63}, {95, 63}};
  std::uint16_t version = encrypted ? 20 : 10;
  for (const Version& one : kVersions) {
    if (one.method == method) version = std::max(version, one.version);
  }
  return version;
}

}  // namespace operculum::zip
