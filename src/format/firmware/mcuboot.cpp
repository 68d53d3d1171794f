// Images of the MCUboot boot loader (its documents "design", "encrypted_images" and "image compression"): a
// header of 32 bytes, filled up to the size that it states; the image; an area of tagged values that the hash
// covers, too, where the header states its size; and one with the hash, signatures and, of an encrypted
// image, its key, sealed for the device. The image is encrypted by AES in counter mode, which counts blocks
// from 0 on; the hash is that of the header, the plain image and the protected values.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure.h"
#include "base/sum_kinds.h"
#include "cipher/block_ciphers.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/mcuboot_key.h"
#include "io/first_bytes.h"
#include "io/fronted_stream.h"

namespace operculum {
namespace {

struct ImageHeader {
  std::uint32_t magic = 0, load_addr = 0;
  std::uint16_t hdr_size = 0, protect_tlv_size = 0;
  std::uint32_t img_size = 0, flags = 0;
  std::uint8_t iv_major = 0, iv_minor = 0;
  std::uint16_t iv_revision = 0;
  std::uint32_t iv_build_num = 0, pad1 = 0;
  static constexpr auto layout =
      little_endian(field("ih_magic", &ImageHeader::magic), field("ih_load_addr", &ImageHeader::load_addr),
                    field("ih_hdr_size", &ImageHeader::hdr_size),
                    field("ih_protect_tlv_size", &ImageHeader::protect_tlv_size),
                    field("ih_img_size", &ImageHeader::img_size), field("ih_flags", &ImageHeader::flags),
                    field("iv_major", &ImageHeader::iv_major), field("iv_minor", &ImageHeader::iv_minor),
                    field("iv_revision", &ImageHeader::iv_revision),
                    field("iv_build_num", &ImageHeader::iv_build_num), field("_pad1", &ImageHeader::pad1));
};

/// In front of an area of tagged values; `tlv_tot` counts these bytes, too.
struct TlvInfo {
  std::uint16_t magic = 0, tlv_tot = 0;
  static constexpr auto layout =
      little_endian(field("it_magic", &TlvInfo::magic), field("it_tlv_tot", &TlvInfo::tlv_tot));
};
struct TlvHead {
  std::uint16_t type = 0, len = 0;
  static constexpr auto layout =
      little_endian(field("it_type", &TlvHead::type), field("it_len", &TlvHead::len));
};

constexpr std::uint32_t kMagic = 0x96f3b83d;
constexpr std::uint16_t kInfoMagic = 0x6907, kProtectedInfoMagic = 0x6908;

enum Flag : std::uint32_t {
  position_independent = 0x1,
  encrypted_aes128 = 0x4,
  encrypted_aes256 = 0x8,
  non_bootable = 0x10,
  ram_load = 0x20,
  rom_fixed = 0x100,
  compressed_lzma1 = 0x200,
  compressed_lzma2 = 0x400,
  compressed_arm_thumb = 0x800,
};
constexpr NamedNumber kFlags[] = {
    {position_independent, "position-independent"},
    {encrypted_aes128, "encrypted by AES-128"},
    {encrypted_aes256, "encrypted by AES-256"},
    {non_bootable, "not to be booted"},
    {ram_load, "loaded into memory"},
    {rom_fixed, "runs at a fixed address"},
    {compressed_lzma1, "packed by LZMA"},
    {compressed_lzma2, "packed by LZMA2"},
    {compressed_arm_thumb, "with a filter for ARM Thumb"},
};

constexpr NamedNumber kTags[] = {
    {0x01, "key-hash"},
    {0x02, "public-key"},
    {0x10, "sha256"},
    {0x11, "sha384"},
    {0x12, "sha512"},
    {0x20, "rsa2048-pss"},
    {0x21, "ecdsa224"},
    {0x22, "ecdsa"},
    {0x23, "rsa3072-pss"},
    {0x24, "ed25519"},
    {0x25, "signed-whole"},
    {mcuboot::sealed_by_rsa, "key-for-rsa2048"},
    {mcuboot::wrapped_key, "key-wrapped"},
    {mcuboot::sealed_on_p256, "key-for-p256"},
    {mcuboot::sealed_on_x25519, "key-for-x25519"},
    {0x40, "dependency"},
    {0x50, "security-counter"},
    {0x60, "boot-record"},
    {0x70, "unpacked-size"},
    {0x71, "unpacked-sha"},
    {0x72, "unpacked-signature"},
};

using mcuboot::Tagged;

std::string flags_text(std::uint32_t flags) {
  std::string out;
  for (const NamedNumber& one : kFlags) {
    if ((flags & one.number) != 0) out += fmt::format("{}{}", out.empty() ? "" : ", ", one.name);
  }
  return out;
}

/// The values of an area that begins at `at`; goes to behind it.
std::vector<Tagged> read_tags(const Source& bytes, std::uint64_t& at, std::uint16_t magic, Firmware& out) {
  std::vector<Tagged> all;
  Bytes head = read_exactly(bytes, at, size_on_disk<TlvInfo>, "tagged values");
  auto info = read_structure<TlvInfo>(head.data());
  if (info.magic != magic)
    refuse_field("MCUboot tagged values", at, &TlvInfo::magic, hex_number(magic), hex_number(info.magic));
  std::uint64_t end = at + info.tlv_tot;
  at += size_on_disk<TlvInfo>;
  while (at + size_on_disk<TlvHead> <= end) {
    auto tag =
        read_structure<TlvHead>(read_exactly(bytes, at, size_on_disk<TlvHead>, "tagged values").data());
    at += size_on_disk<TlvHead>;
    if (tag.len > end - at) {
      out.fault(fmt::format(
          "the tagged value at offset {} goes beyond its area: expected {} bytes at most, found {}", at,
          end - at, tag.len));
      break;
    }
    all.push_back({tag.type, at, read_exactly(bytes, at, tag.len, "tagged value")});
    at += tag.len;
  }
  at = end;
  return all;
}

/// What the hash among the values is, if it is one that we compare.
Expected hash_among(const std::vector<Tagged>& tags) {
  constexpr NamedNumber kHashes[] = {{0x10, "sha256"}, {0x11, "sha384"}, {0x12, "sha512"}};
  for (const Tagged& one : tags) {
    for (const NamedNumber& hash : kHashes) {
      const SumKind* sum = find_sum(hash.name);
      if (one.tag == hash.number && sum != nullptr && sum->bytes == one.value.size())
        return {.sum = hash.name, .digest = one.value};
    }
  }
  return {};
}

/// One stream behind another.
class JoinedStream final : public Stream {
 public:
  JoinedStream(StreamPtr first, StreamPtr second) : first_(std::move(first)), second_(std::move(second)) {}
  std::size_t read(ByteSpan out) override {
    if (first_) {
      if (std::size_t count = first_->read(out)) return count;
      first_.reset();
    }
    return second_->read(out);
  }

 private:
  StreamPtr first_, second_;
};

/// `size` bytes of a stream whose rest is read behind them for the sake of the check at its end.
class CheckedPart final : public Stream {
 public:
  CheckedPart(StreamPtr all, std::uint64_t size) : all_(std::move(all)), left_(size) {}
  std::size_t read(ByteSpan out) override {
    if (left_ == 0) {
      all_->skip(UINT64_MAX);
      return 0;
    }
    std::size_t count = all_->read(out.first(std::min<std::uint64_t>(out.size(), left_)));
    left_ -= count;
    return count;
  }

 private:
  StreamPtr all_;
  std::uint64_t left_;
};

/// Where the image lies, and what belongs to its hash.
struct Image {
  SourcePtr bytes;
  std::uint64_t at = 0, size = 0, protected_size = 0;
  Expected hash = {};
  Bytes key = {};  ///< empty: plain
};

StreamPtr open_image(const Image& image) {
  StreamPtr plain = make_source_stream(image.bytes, image.at, image.size);
  if (!image.key.empty())
    plain = open_block_cipher(std::move(plain), make_aes(image.key), BlockMode::ctr, {});
  if (image.hash.sum.empty()) return make_checked(std::move(plain), {.size = image.size});
  StreamPtr behind = make_source_stream(image.bytes, image.at + image.size, image.protected_size);
  StreamPtr all = make_fronted(read_exactly(*image.bytes, 0, image.at, "MCUboot header"),
                               std::make_unique<JoinedStream>(std::move(plain), std::move(behind)));
  all = make_checked(std::move(all), image.hash);
  all->skip(image.at);
  return std::make_unique<CheckedPart>(std::move(all), image.size);
}

void add_tags(const std::vector<Tagged>& tags, Firmware& out) {
  for (const Tagged& one : tags) {
    out.parts.push_back({.path = "values/" + part_name(name_in(kTags, one.tag, "value"), "value"),
                         .type = name_in(kTags, one.tag, "value of tag"),
                         .at = one.at,
                         .size = one.value.size()});
  }
}

Match recognise_mcuboot(Probe& probe) {
  ByteView head = probe.head(size_on_disk<ImageHeader>);
  if (head.size() < size_on_disk<ImageHeader>) return Match::none;
  auto header = read_structure<ImageHeader>(head.data());
  bool fits = header.magic == kMagic && header.hdr_size >= size_on_disk<ImageHeader> && header.pad1 == 0;
  return fits ? Match::front : Match::none;
}

ContainerPtr open_mcuboot(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  auto header = read_structure<ImageHeader>(
      read_exactly(*bytes, 0, size_on_disk<ImageHeader>, "MCUboot header").data());
  Firmware out;
  out.facts = {{"version", fmt::format("{}.{}.{}+{}", header.iv_major, header.iv_minor, header.iv_revision,
                                       header.iv_build_num)}};
  if (header.load_addr != 0) out.facts.emplace_back("load address", hex_number(header.load_addr));
  if (std::string flags = flags_text(header.flags); !flags.empty()) out.facts.emplace_back("flags", flags);
  Image image{.bytes = bytes,
              .at = header.hdr_size,
              .size = header.img_size,
              .protected_size = header.protect_tlv_size};
  FirmwarePart part{.path = "image.bin", .type = "image", .at = image.at, .size = image.size};
  const bool encrypted = (header.flags & (encrypted_aes128 | encrypted_aes256)) != 0;
  const std::size_t key_size = (header.flags & encrypted_aes256) != 0 ? 32 : 16;
  std::vector<Tagged> guarded, tags;
  std::uint64_t at = image.at + image.size;
  try {
    if (header.protect_tlv_size != 0) guarded = read_tags(*bytes, at, kProtectedInfoMagic, out);
    tags = read_tags(*bytes, at, kInfoMagic, out);
    image.hash = hash_among(tags);
    if (image.hash.sum.empty()) out.note("no hash of the image is stored");
  } catch (const Error& error) {
    out.fault(fmt::format("the values behind the image cannot be read: {}", error.what()));
  }
  part.encrypted = encrypted;
  if (encrypted) part.method = "AES";
  if ((header.flags & (compressed_lzma1 | compressed_lzma2)) == 0) part.unpacked = image.size;
  part.checked = !image.hash.sum.empty();
  std::string container = input.name;
  part.open = [=, &context]() -> ContentPtr {
    if ((header.flags & (compressed_lzma1 | compressed_lzma2)) != 0)
      throw Unsupported("an MCUboot image that is packed by LZMA");
    Image opened = image;
    if (encrypted) opened.key = mcuboot::find_image_key(tags, key_size, container, context.keys);
    return make_content([opened]() { return open_image(opened); });
  };
  out.parts.push_back(std::move(part));
  add_tags(guarded, out);
  add_tags(tags, out);
  add_what_is_behind(*bytes, at, out);
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format mcuboot_format() {
  return {.id = "mcuboot",
          .name = "MCUboot image",
          .family = "firmware",
          .specification = "MCUboot documentation: design, encrypted_images",
          .reads =
              "hash (compared), versions, tagged values, AES-CTR with a key of the ring that the image's is "
              "wrapped in, or the private key (RSA, P-256, X25519) that it is sealed for",
          .lacks = "checking of signatures, packed images",
          .suffixes = {},
          .recognise = recognise_mcuboot,
          .open = open_mcuboot,
          .records = {record_at<ImageHeader>("header", 0)}};
}

}  // namespace operculum
