// Boot images of Android (Android Open Source Project, "Boot image header" and "Vendor boot partitions"):
// versions 0 to 4 of the boot image, 3 and 4 of the vendor's. Each part begins at a multiple of the page
// size. A footer of the last 64 bytes ("AVBf") tells where signed metadata lies (Android Verified Boot 2.0).
#include <fmt/format.h>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"

namespace operculum {
namespace {

constexpr std::string_view kBootMagic = "ANDROID!", kVendorMagic = "VNDRBOOT", kFooterMagic = "AVBf";
constexpr std::size_t kHeadSize = 4096;

/// boot_img_hdr_v0, and what versions 1 and 2 add to it.
struct OldBootHeader {
  std::uint32_t kernel_size = 0, kernel_addr = 0, ramdisk_size = 0, ramdisk_addr = 0, second_size = 0,
                second_addr = 0, tags_addr = 0, page_size = 0, header_version = 0, os_version = 0;
  std::array<Byte, 16> name{};
  std::array<Byte, 512> cmdline{};
  std::array<Byte, 32> id{};
  std::array<Byte, 1024> extra_cmdline{};
  std::uint32_t recovery_dtbo_size = 0, dtb_size = 0;
  std::uint64_t dtb_addr = 0;
  static constexpr auto layout = little_endian(
      from_byte<8>(), field("kernel_size", &OldBootHeader::kernel_size),
      field("kernel_addr", &OldBootHeader::kernel_addr), field("ramdisk_size", &OldBootHeader::ramdisk_size),
      field("ramdisk_addr", &OldBootHeader::ramdisk_addr), field("second_size", &OldBootHeader::second_size),
      field("second_addr", &OldBootHeader::second_addr), field("tags_addr", &OldBootHeader::tags_addr),
      field("page_size", &OldBootHeader::page_size), field("header_version", &OldBootHeader::header_version),
      field("os_version", &OldBootHeader::os_version), field("name", &OldBootHeader::name),
      field("cmdline", &OldBootHeader::cmdline), field("id", &OldBootHeader::id),
      field("extra_cmdline", &OldBootHeader::extra_cmdline),
      field("recovery_dtbo_size", &OldBootHeader::recovery_dtbo_size), from_byte<1648>(),
      field("dtb_size", &OldBootHeader::dtb_size), field("dtb_addr", &OldBootHeader::dtb_addr));
};

/// boot_img_hdr_v3, and the signature that version 4 adds.
struct NewBootHeader {
  std::uint32_t kernel_size = 0, ramdisk_size = 0, os_version = 0, header_version = 0;
  std::array<Byte, 1536> cmdline{};
  std::uint32_t signature_size = 0;
  static constexpr auto layout = little_endian(
      from_byte<8>(), field("kernel_size", &NewBootHeader::kernel_size),
      field("ramdisk_size", &NewBootHeader::ramdisk_size), field("os_version", &NewBootHeader::os_version),
      from_byte<40>(), field("header_version", &NewBootHeader::header_version),
      field("cmdline", &NewBootHeader::cmdline), field("signature_size", &NewBootHeader::signature_size));
};

/// vendor_boot_img_hdr_v3, and what version 4 adds to it.
struct VendorHeader {
  std::uint32_t header_version = 0, page_size = 0, kernel_addr = 0, ramdisk_addr = 0, vendor_ramdisk_size = 0;
  std::array<Byte, 2048> cmdline{};
  std::uint32_t tags_addr = 0;
  std::array<Byte, 16> name{};
  std::uint32_t header_size = 0, dtb_size = 0;
  std::uint64_t dtb_addr = 0;
  std::uint32_t table_size = 0, table_entries = 0, table_entry_size = 0, bootconfig_size = 0;
  static constexpr auto layout = little_endian(
      from_byte<8>(), field("header_version", &VendorHeader::header_version),
      field("page_size", &VendorHeader::page_size), field("kernel_addr", &VendorHeader::kernel_addr),
      field("ramdisk_addr", &VendorHeader::ramdisk_addr),
      field("vendor_ramdisk_size", &VendorHeader::vendor_ramdisk_size),
      field("cmdline", &VendorHeader::cmdline), field("tags_addr", &VendorHeader::tags_addr),
      field("name", &VendorHeader::name), field("header_size", &VendorHeader::header_size),
      field("dtb_size", &VendorHeader::dtb_size), field("dtb_addr", &VendorHeader::dtb_addr),
      field("vendor_ramdisk_table_size", &VendorHeader::table_size),
      field("vendor_ramdisk_table_entry_num", &VendorHeader::table_entries),
      field("vendor_ramdisk_table_entry_size", &VendorHeader::table_entry_size),
      field("bootconfig_size", &VendorHeader::bootconfig_size));
};

/// vendor_ramdisk_table_entry_v4.
struct RamdiskRow {
  std::uint32_t ramdisk_size = 0, ramdisk_offset = 0, ramdisk_type = 0;
  std::array<Byte, 32> ramdisk_name{};
  std::array<Byte, 64> board_id{};
  static constexpr auto layout = little_endian(
      field("ramdisk_size", &RamdiskRow::ramdisk_size), field("ramdisk_offset", &RamdiskRow::ramdisk_offset),
      field("ramdisk_type", &RamdiskRow::ramdisk_type), field("ramdisk_name", &RamdiskRow::ramdisk_name),
      field("board_id", &RamdiskRow::board_id));
};

/// AvbFooter.
struct VerifiedFooter {
  std::uint32_t version_major = 0, version_minor = 0;
  std::uint64_t original_image_size = 0, vbmeta_offset = 0, vbmeta_size = 0;
  static constexpr auto layout =
      big_endian(from_byte<4>(), field("version_major", &VerifiedFooter::version_major),
                 field("version_minor", &VerifiedFooter::version_minor),
                 field("original_image_size", &VerifiedFooter::original_image_size),
                 field("vbmeta_offset", &VerifiedFooter::vbmeta_offset),
                 field("vbmeta_size", &VerifiedFooter::vbmeta_size), from_byte<64>());
};
constexpr std::size_t kFooterSize = size_on_disk<VerifiedFooter>;

/// The header of these bytes; what they do not reach is zero.
template <typename S>
S header_of(ByteView head) {
  Bytes whole(head.begin(), head.end());
  whole.resize(std::max(whole.size(), size_on_disk<S>));
  return read_structure<S>(whole.data());
}
constexpr std::uint32_t kModernPage = 4096, kNewest = 4, kMostFragments = 1024;

/// Parts that lie one behind another at multiples of a page.
class Pages {
 public:
  Pages(Firmware& out, std::uint64_t page, std::uint64_t first)
      : out_(out), page_(page), at_(rounded(first)) {}

  void add(const char* path, const char* type, std::uint64_t size, std::string comment = "") {
    if (size > 0)
      out_.parts.push_back(
          {.path = path, .type = type, .at = at_, .size = size, .comment = std::move(comment)});
    at_ += rounded(size);
  }
  std::uint64_t at() const { return at_; }
  void pass(std::uint64_t size) { at_ += rounded(size); }

 private:
  std::uint64_t rounded(std::uint64_t size) const { return (size + page_ - 1) / page_ * page_; }
  Firmware& out_;
  std::uint64_t page_, at_;
};

std::string at_address(std::uint64_t address) {
  return fmt::format("load {:#x}", address);
}

/// "12.0.0, security patch 2021-11".
std::string system_version(std::uint32_t packed) {
  std::uint32_t version = packed >> 11, patch = packed & 0x7FF;
  if (packed == 0) return "";
  return fmt::format("{}.{}.{}, security patch {}-{:02}", version >> 14, version >> 7 & 0x7F, version & 0x7F,
                     2000 + (patch >> 4), patch & 15);
}

void add_fact(Firmware& out, std::string name, std::string value) {
  if (!value.empty()) out.facts.emplace_back(std::move(name), std::move(value));
}

bool is_page_size(std::uint32_t size) {
  return size >= 2048 && size <= 1 << 20 && (size & (size - 1)) == 0;
}

void read_footer(const Source& bytes, std::uint64_t& end, Firmware& out) {
  if (bytes.size() < kFooterSize) return;
  Bytes raw = read_up_to(bytes, bytes.size() - kFooterSize, kFooterSize);
  if (!starts_with(raw, kFooterMagic)) return;
  auto footer = read_structure<VerifiedFooter>(raw.data());
  std::uint64_t at = footer.vbmeta_offset, size = footer.vbmeta_size;
  out.facts.emplace_back("verified boot", fmt::format("footer {}.{}, image of {} bytes", footer.version_major,
                                                      footer.version_minor, footer.original_image_size));
  if (at > bytes.size() || size > bytes.size() - at) {
    out.fault("the footer of verified boot points beyond the end of the file");
    return;
  }
  out.parts.push_back({.path = "vbmeta", .type = "verified boot metadata", .at = at, .size = size});
  end = bytes.size();
}

/// What lies behind the last part.
void finish(const Source& bytes, std::uint64_t end, Firmware& out) {
  read_footer(bytes, end, out);
  add_what_is_behind(bytes, end, out);
}

// ---- the boot image

/// Versions 0 to 2: the header fills a page, and tells its size. A large number instead of a version is the
/// size of a table of device trees that some makers put there.
void read_old_boot(const OldBootHeader& header, const Source& bytes, Firmware& out) {
  std::uint32_t page = header.page_size, version = header.header_version;
  if (!is_page_size(page)) throw Malformed(fmt::format("boot image header: a page of {} bytes", page));
  std::uint32_t trees = version > kNewest ? version : 0;
  out.facts.emplace_back("header version", std::to_string(trees > 0 ? 0 : version));
  add_fact(out, "name", field_text(header.name));
  add_fact(out, "system", system_version(header.os_version));
  add_fact(out, "command line", field_text(header.cmdline) + field_text(header.extra_cmdline));
  out.facts.emplace_back("page", fmt::format("{} bytes", page));
  add_fact(out, "id", to_hex(header.id));
  Pages pages(out, page, page);
  pages.add("kernel", "kernel", header.kernel_size, at_address(header.kernel_addr));
  pages.add("ramdisk", "ramdisk", header.ramdisk_size, at_address(header.ramdisk_addr));
  pages.add("second", "second stage", header.second_size, at_address(header.second_addr));
  if (trees > 0) pages.add("device-trees", "device trees", trees);
  if (trees == 0 && version >= 1)
    pages.add("recovery-dtbo", "device tree overlay", header.recovery_dtbo_size);
  if (trees == 0 && version >= 2)
    pages.add("dtb", "device tree", header.dtb_size, at_address(header.dtb_addr));
  finish(bytes, pages.at(), out);
}

void read_new_boot(const NewBootHeader& header, const Source& bytes, Firmware& out) {
  out.facts.emplace_back("header version", std::to_string(header.header_version));
  add_fact(out, "system", system_version(header.os_version));
  add_fact(out, "command line", field_text(header.cmdline));
  Pages pages(out, kModernPage, kModernPage);
  pages.add("kernel", "kernel", header.kernel_size);
  pages.add("ramdisk", "ramdisk", header.ramdisk_size);
  if (header.header_version >= 4) pages.add("signature", "boot signature", header.signature_size);
  finish(bytes, pages.at(), out);
}

/// Versions 3 and 4, whose number lies where the older ones have theirs.
bool is_new(std::uint32_t version) {
  return version == 3 || version == 4;
}

Match recognise_android_boot(Probe& probe) {
  ByteView head = probe.head(kHeadSize);
  constexpr std::size_t kLeast = 1652;  // what version 1 has
  if (head.size() < kLeast || !starts_with(head, kBootMagic)) return Match::none;
  auto header = header_of<OldBootHeader>(head);
  bool fits = is_new(header.header_version) || is_page_size(header.page_size);
  return fits ? Match::front : Match::none;
}

ContainerPtr open_android_boot(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*bytes, 0, kHeadSize);
  Firmware out;
  auto header = header_of<OldBootHeader>(head);
  if (is_new(header.header_version)) {
    read_new_boot(header_of<NewBootHeader>(head), *bytes, out);
  } else {
    read_old_boot(header, *bytes, out);
  }
  return make_firmware(std::move(bytes), std::move(out));
}

// ---- the vendor's

std::string fragment_type(std::uint32_t type) {
  constexpr NamedNumber kTypes[] = {
      {0, "ramdisk"}, {1, "platform ramdisk"}, {2, "recovery ramdisk"}, {3, "modules ramdisk"}};
  return name_in(kTypes, type, "ramdisk of type");
}

/// Version 4: the ramdisk consists of fragments that a table names.
void add_fragments(const Source& bytes, std::uint64_t ramdisk, std::uint64_t table, std::uint32_t count,
                   std::uint32_t row, Firmware& out) {
  if (row < size_on_disk<RamdiskRow> || count > kMostFragments)
    throw Malformed(fmt::format("vendor boot image: a table of {} ramdisks in rows of {} bytes", count, row));
  for (std::uint32_t i = 0; i < count; ++i) {
    Bytes raw = read_exactly(bytes, table + std::uint64_t{i} * row, row, "table of vendor ramdisks");
    auto one = read_structure<RamdiskRow>(raw.data());
    std::string name = field_text(one.ramdisk_name);
    out.parts.push_back({.path = "ramdisks/" + part_name(name, fmt::format("ramdisk-{}", i)),
                         .type = fragment_type(one.ramdisk_type),
                         .at = ramdisk + one.ramdisk_offset,
                         .size = one.ramdisk_size});
  }
}

Match recognise_vendor_boot(Probe& probe) {
  ByteView head = probe.head(kHeadSize);
  constexpr std::size_t kLeast = 2112;  // what version 3 has
  if (head.size() < kLeast || !starts_with(head, kVendorMagic)) return Match::none;
  auto header = header_of<VendorHeader>(head);
  return is_new(header.header_version) && is_page_size(header.page_size) ? Match::front : Match::none;
}

ContainerPtr open_vendor_boot(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*bytes, 0, kHeadSize);
  auto header = header_of<VendorHeader>(head);
  std::uint32_t version = header.header_version, page = header.page_size;
  if (!is_page_size(page)) throw Malformed(fmt::format("vendor boot image header: a page of {} bytes", page));
  Firmware out;
  out.facts.emplace_back("header version", std::to_string(version));
  add_fact(out, "name", field_text(header.name));
  add_fact(out, "command line", field_text(header.cmdline));
  out.facts.emplace_back("page", fmt::format("{} bytes", page));
  Pages pages(out, page, header.header_size);
  std::uint64_t ramdisk_at = pages.at();
  bool fragments = version >= 4 && header.table_entries > 0;
  if (fragments) {
    pages.pass(header.vendor_ramdisk_size);
  } else {
    pages.add("ramdisk", "ramdisk", header.vendor_ramdisk_size, at_address(header.ramdisk_addr));
  }
  pages.add("dtb", "device tree", header.dtb_size, at_address(header.dtb_addr));
  if (version >= 4) {
    if (fragments)
      add_fragments(*bytes, ramdisk_at, pages.at(), header.table_entries, header.table_entry_size, out);
    pages.pass(header.table_size);
    pages.add("bootconfig", "boot configuration", header.bootconfig_size);
  }
  finish(*bytes, pages.at(), out);
  return make_firmware(std::move(bytes), std::move(out));
}

PlacedFields shown_boot_header(Probe& probe) {
  bool is_later = is_new(header_of<OldBootHeader>(probe.head(kHeadSize)).header_version);
  return is_later ? fields_at<NewBootHeader>(probe, 0) : fields_at<OldBootHeader>(probe, 0);
}

}  // namespace

Format android_boot_format() {
  return {
      .id = "android-boot",
      .name = "Android boot image",
      .family = "firmware",
      .specification = "Android Open Source Project, Boot image header (versions 0 to 4)",
      .reads = "kernel, ramdisk, second stage, device trees, signature, command line; verified boot footer",
      .lacks = "checking of signatures",
      .suffixes = {},
      .recognise = recognise_android_boot,
      .open = open_android_boot,
      .records = {{"header", shown_boot_header}}};
}

Format vendor_boot_format() {
  return {.id = "vendor-boot",
          .name = "Android vendor boot image",
          .family = "firmware",
          .specification = "Android Open Source Project, Vendor boot partitions (versions 3 and 4)",
          .reads = "ramdisk and its fragments, device trees, boot configuration, command line",
          .lacks = "checking of signatures",
          .suffixes = {},
          .recognise = recognise_vendor_boot,
          .open = open_vendor_boot,
          .records = {record_at<VendorHeader>("header", 0)}};
}

}  // namespace operculum
