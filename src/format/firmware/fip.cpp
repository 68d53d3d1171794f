// Firmware image packages (Trusted Firmware-A documentation, "Firmware Image Package"): a header, rows of
// UUID, place, size and flags up to a row whose UUID is nothing but zeros, then the images. An encrypted
// image begins with a header of its own ("Authenticated encryption", fw_enc_hdr): algorithm, nonce and tag.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "cipher/gcm.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/named_key.h"

namespace operculum {
namespace {

struct Header {
  std::uint32_t name = 0, serial_number = 0;
  std::uint64_t flags = 0;
  static constexpr auto layout =
      little_endian(field("name", &Header::name), field("serial_number", &Header::serial_number),
                    field("flags", &Header::flags));
};
struct Row {
  std::array<Byte, 16> uuid{};
  std::uint64_t offset_address = 0, size = 0, flags = 0;
  static constexpr auto layout =
      little_endian(field("uuid", &Row::uuid), field("offset_address", &Row::offset_address),
                    field("size", &Row::size), field("flags", &Row::flags));
};

struct EncryptionHeader {
  std::uint32_t magic = 0;
  std::uint16_t dec_algo = 0, flags = 0, iv_len = 0, tag_len = 0;
  std::array<Byte, 16> iv{}, tag{};
  static constexpr auto layout =
      little_endian(field("magic", &EncryptionHeader::magic), field("dec_algo", &EncryptionHeader::dec_algo),
                    field("flags", &EncryptionHeader::flags), field("iv_len", &EncryptionHeader::iv_len),
                    field("tag_len", &EncryptionHeader::tag_len), field("iv", &EncryptionHeader::iv),
                    field("tag", &EncryptionHeader::tag));
};

constexpr std::uint32_t kName = 0xAA640001;  // also the magic of an encrypted image
constexpr std::size_t kKeySize = 32;
constexpr std::size_t kMostRows = 1024;

struct Image {
  std::string_view uuid, path, what;
};
constexpr Image kImages[] = {
    {"659227032f74e6448dff579ac1ff0610", "scp-fwu-cfg", "updater configuration of the system processor"},
    {"60b3eb37c1e5ea419df319eda11f6801", "ap-fwu-cfg", "updater configuration (BL2U)"},
    {"4f511d112be54e49b4c583c2f715840a", "fwu", "non-trusted firmware updater"},
    {"71408ab218d6874c8b2ec6dccd50f096", "fwu-cert", "certificate of the updater"},
    {"5ff9ec0b4d223e4da544c39d81c73f0a", "tb-fw", "trusted boot firmware (BL2)"},
    {"9766fd3d89bee849ae5d78a140608213", "scp-fw", "system processor firmware (SCP_BL2)"},
    {"47d4086d4cfe98469b952950cbbd5a00", "soc-fw", "runtime firmware (BL31)"},
    {"05d0e18953dc13478d2b500a4b7a3e38", "tos-fw", "trusted OS (BL32)"},
    {"0b70c29b2a5a78409f650a5682738288", "tos-fw-extra1", "trusted OS, first extra image"},
    {"8ea87bb1cfa23f4d85fde7bba50220d9", "tos-fw-extra2", "trusted OS, second extra image"},
    {"d6d0eea7fcead54b97829934f234b6e4", "nt-fw", "non-trusted firmware (BL33)"},
    {"6c0762a612f24b5692cbba8f633606d9", "rmm-fw", "realm management firmware"},
    {"5807e16a845947be8ed5648e8dddab0e", "fw-config", "firmware configuration"},
    {"08b8f1d9c9cf9349a9626fbc6b7265cc", "hw-config", "hardware configuration"},
    {"6c0458ffaf6b7d4f82edaa27bc69bfd2", "tb-fw-config", "configuration of the trusted boot firmware"},
    {"9979814b0376fb468c8e8d267f7859e0", "soc-fw-config", "configuration of the runtime firmware"},
    {"26257c1adbc67f478d96c4c4b0248021", "tos-fw-config", "configuration of the trusted OS"},
    {"28da981593e87e44ac661aaf801550f9", "nt-fw-config", "configuration of the non-trusted firmware"},
    {"862d1d72f860e411920b8be762160f24", "rot-cert", "root of trust key certificate"},
    {"827ee890f860e411a1b4777a21b4f94c", "trusted-key-cert", "trusted key certificate"},
    {"024221a1f860e4118d9bf33c0e15a014", "scp-fw-key-cert", "key certificate"},
    {"8ab8beccf960e4119ad0eb4822d8dcf8", "soc-fw-key-cert", "key certificate"},
    {"9477d603fb60e41185ddb7105b8cee04", "tos-fw-key-cert", "key certificate"},
    {"8ad5832afb60e4118aafdf30bbc49859", "nt-fw-key-cert", "key certificate"},
    {"d6e269ea5d63e4118d8c9fbabe9956a5", "tb-fw-cert", "content certificate"},
    {"44be6f045e63e411b28b73d8eaae9656", "scp-fw-cert", "content certificate"},
    {"e2b20c205e63e4119ce8abccf92bb666", "soc-fw-cert", "content certificate"},
    {"a49f44115e63e41187283f05722af33d", "tos-fw-cert", "content certificate"},
    {"8ec4c1f35d63e411a7a987ee40b23fa7", "nt-fw-cert", "content certificate"},
    {"776dfd4486974c3b91ebc13e025a2a6f", "sip-sp-cert", "content certificate of secure partitions"},
    {"36d83d85761d4daf96f1cd99d6569b00", "cca-cert", "content certificate"},
    {"52222d31820f494d8bbcea6825d3c35a", "core-swd-cert", "key certificate"},
};

/// The header of an encrypted image; nothing where it is a plain one.
std::optional<EncryptionHeader> encryption_of(const Source& bytes, const Row& row) {
  if (row.size <= size_on_disk<EncryptionHeader>) return std::nullopt;
  Bytes front = read_up_to(bytes, row.offset_address, size_on_disk<EncryptionHeader>);
  if (front.size() < size_on_disk<EncryptionHeader>) return std::nullopt;
  auto header = read_structure<EncryptionHeader>(front.data());
  bool fits = header.magic == kName && header.iv_len > 0 && header.iv_len <= header.iv.size() &&
              header.tag_len > 0 && header.tag_len <= header.tag.size();
  return fits ? std::optional(header) : std::nullopt;
}

/// The plain bytes of an encrypted image, once the key ring has its key: whether it is the right one only the
/// tag tells, which all of the image has to be read for.
ContentPtr open_sealed(const SourcePtr& bytes, const Row& row, const EncryptionHeader& header,
                       const std::string& container, OpenContext& context) {
  if (header.dec_algo != 0)
    throw Unsupported(fmt::format("encryption of firmware images by algorithm {}", header.dec_algo));
  auto plain_by = [bytes, row, header](ByteView key) {
    StreamPtr sealed = make_source_stream(bytes, row.offset_address + size_on_disk<EncryptionHeader>,
                                          row.size - size_on_disk<EncryptionHeader>);
    return open_gcm(std::move(sealed), key, ByteView(header.iv).first(header.iv_len),
                    ByteView(header.tag).first(header.tag_len));
  };
  Bytes key =
      find_block_key({"firmware package", container, kKeySize}, context.keys, [&](ByteView candidate) {
        try {
          plain_by(candidate)->skip(UINT64_MAX);
          return true;
        } catch (const Malformed&) {
          return false;
        }
      });
  return make_content([plain_by, key] { return plain_by(key); });
}

void seal(FirmwarePart& part, const SourcePtr& bytes, const Row& row, const EncryptionHeader& header,
          const std::string& container, OpenContext& context) {
  part.encrypted = part.checked = true;
  part.method = "AES";
  part.unpacked = row.size - size_on_disk<EncryptionHeader>;
  part.comment +=
      fmt::format("{}encrypted by the {}", part.comment.empty() ? "" : "; ",
                  (header.flags & 1) != 0 ? "key of the chip's kind, bound to this chip" : "key of its kind");
  part.open = [=, &context] { return open_sealed(bytes, row, header, container, context); };
}

Match recognise_fip(Probe& probe) {
  constexpr std::size_t kSize = size_on_disk<Header> + size_on_disk<Row>;
  ByteView head = probe.head(kSize);
  if (head.size() < kSize || read_structure<Header>(head.data()).name != kName) return Match::none;
  auto first = read_structure<Row>(head.data() + size_on_disk<Header>);
  bool last = first.uuid == std::array<Byte, 16>{};
  return last || first.offset_address >= kSize ? Match::front : Match::none;
}

ContainerPtr open_fip(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_exactly(*bytes, 0, size_on_disk<Header>, "firmware package header");
  auto header = read_structure<Header>(head.data());
  Firmware out;
  out.facts = {{"serial number", hex_number(header.serial_number)}};
  if (header.flags != 0) out.facts.emplace_back("flags", hex_number(header.flags));
  for (std::size_t i = 0;; ++i) {
    if (i == kMostRows) throw Malformed("firmware package: more than 1,024 rows");
    std::uint64_t at = size_on_disk<Header> + i * size_on_disk<Row>;
    Bytes raw = read_up_to(*bytes, at, size_on_disk<Row>);
    if (raw.size() < size_on_disk<Row>) {
      out.fault("the row that ends the table of contents is missing: the file is cut short");
      break;
    }
    auto row = read_structure<Row>(raw.data());
    if (row.uuid == std::array<Byte, 16>{}) break;
    std::string digits = to_hex(row.uuid);
    auto known = std::find_if(std::begin(kImages), std::end(kImages),
                              [&](const Image& one) { return one.uuid == digits; });
    bool found = known != std::end(kImages);
    out.parts.push_back({.path = found ? std::string(known->path) : uuid_text(row.uuid),
                         .type = found ? std::string(known->what) : "image",
                         .at = row.offset_address,
                         .size = row.size,
                         .comment = found ? uuid_text(row.uuid) : ""});
    if (auto sealed = encryption_of(*bytes, row))
      seal(out.parts.back(), bytes, row, *sealed, input.name, context);
  }
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format fip_format() {
  return {.id = "fip",
          .name = "firmware image package",
          .family = "firmware",
          .specification = "Trusted Firmware-A documentation, Firmware Image Package",
          .reads = "all images; those of the specification by their names; AES-GCM with a key of the ring",
          .lacks = "checking of certificates",
          .suffixes = {".fip"},
          .recognise = recognise_fip,
          .open = open_fip,
          .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
