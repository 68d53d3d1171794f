// Boot images of Android (Android Open Source Project, "Boot image header" and "Vendor boot partitions"):
// versions 0 to 4 of the boot image, 3 and 4 of the vendor's. Each part begins at a multiple of the page
// size. A footer of the last 64 bytes ("AVBf") tells where signed metadata lies (Android Verified Boot 2.0).
#include <fmt/format.h>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "format/firmware/firmware_parts.h"
#include "format/formats.h"

namespace operculum {
namespace {

constexpr std::string_view kBootMagic = "ANDROID!", kVendorMagic = "VNDRBOOT", kFooterMagic = "AVBf";
constexpr std::size_t kHeadSize = 4096, kFooterSize = 64;
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
  BigFields f(raw, "verified boot footer", bytes.size() - kFooterSize);
  std::uint64_t image = f.u64(12), at = f.u64(20), size = f.u64(28);
  out.facts.emplace_back("verified boot",
                         fmt::format("footer {}.{}, image of {} bytes", f.u32(4), f.u32(8), image));
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

std::uint32_t boot_version(ByteView head) {
  return LittleFields(head, "boot image").u32(40);
}

/// Versions 0 to 2: the header fills a page, and tells its size. A large number instead of a version is the
/// size of a table of device trees that some makers put there.
void read_old_boot(ByteView head, const Source& bytes, Firmware& out) {
  LittleFields f(head, "boot image header");
  std::uint32_t page = f.u32(36), version = f.u32(40);
  if (!is_page_size(page)) throw Malformed(fmt::format("boot image header: a page of {} bytes", page));
  std::uint32_t trees = version > kNewest ? version : 0;
  out.facts.emplace_back("header version", std::to_string(trees > 0 ? 0 : version));
  add_fact(out, "name", field_text(f.bytes(48, 16)));
  add_fact(out, "system", system_version(f.u32(44)));
  add_fact(out, "command line", field_text(f.bytes(64, 512)) + field_text(f.bytes(608, 1024)));
  out.facts.emplace_back("page", fmt::format("{} bytes", page));
  add_fact(out, "id", to_hex(f.bytes(576, 32)));
  Pages pages(out, page, page);
  pages.add("kernel", "kernel", f.u32(8), at_address(f.u32(12)));
  pages.add("ramdisk", "ramdisk", f.u32(16), at_address(f.u32(20)));
  pages.add("second", "second stage", f.u32(24), at_address(f.u32(28)));
  if (trees > 0) pages.add("device-trees", "device trees", trees);
  if (trees == 0 && version >= 1) pages.add("recovery-dtbo", "device tree overlay", f.u32(1632));
  if (trees == 0 && version >= 2) pages.add("dtb", "device tree", f.u32(1648), at_address(f.u64(1652)));
  finish(bytes, pages.at(), out);
}

void read_new_boot(ByteView head, const Source& bytes, Firmware& out) {
  LittleFields f(head, "boot image header");
  std::uint32_t version = f.u32(40);
  out.facts.emplace_back("header version", std::to_string(version));
  add_fact(out, "system", system_version(f.u32(16)));
  add_fact(out, "command line", field_text(f.bytes(44, 1536)));
  Pages pages(out, kModernPage, kModernPage);
  pages.add("kernel", "kernel", f.u32(8));
  pages.add("ramdisk", "ramdisk", f.u32(12));
  if (version >= 4) pages.add("signature", "boot signature", f.u32(1580));
  finish(bytes, pages.at(), out);
}

Match recognise_android_boot(Probe& probe) {
  ByteView head = probe.head(kHeadSize);
  if (head.size() < 1652 || !starts_with(head, kBootMagic)) return Match::none;
  std::uint32_t version = boot_version(head);
  bool fits = version == 3 || version == 4 || is_page_size(LittleFields(head, "").u32(36));
  return fits ? Match::front : Match::none;
}

ContainerPtr open_android_boot(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*bytes, 0, kHeadSize);
  Firmware out;
  std::uint32_t version = boot_version(head);
  if (version == 3 || version == 4) {
    read_new_boot(head, *bytes, out);
  } else {
    read_old_boot(head, *bytes, out);
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
  if (row < 108 || count > kMostFragments)
    throw Malformed(fmt::format("vendor boot image: a table of {} ramdisks in rows of {} bytes", count, row));
  for (std::uint32_t i = 0; i < count; ++i) {
    std::uint64_t at = table + std::uint64_t{i} * row;
    Bytes raw = read_exactly(bytes, at, row, "table of vendor ramdisks");
    LittleFields f(raw, "table of vendor ramdisks", at);
    std::string name = field_text(f.bytes(12, 32));
    out.parts.push_back({.path = "ramdisks/" + part_name(name, fmt::format("ramdisk-{}", i)),
                         .type = fragment_type(f.u32(8)),
                         .at = ramdisk + f.u32(4),
                         .size = f.u32(0)});
  }
}

Match recognise_vendor_boot(Probe& probe) {
  ByteView head = probe.head(kHeadSize);
  if (head.size() < 2112 || !starts_with(head, kVendorMagic)) return Match::none;
  LittleFields f(head, "");
  return (f.u32(8) == 3 || f.u32(8) == 4) && is_page_size(f.u32(12)) ? Match::front : Match::none;
}

ContainerPtr open_vendor_boot(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes head = read_up_to(*bytes, 0, kHeadSize);
  LittleFields f(head, "vendor boot image header");
  std::uint32_t version = f.u32(8), page = f.u32(12), ramdisk = f.u32(24), trees = f.u32(2100);
  if (!is_page_size(page)) throw Malformed(fmt::format("vendor boot image header: a page of {} bytes", page));
  Firmware out;
  out.facts.emplace_back("header version", std::to_string(version));
  add_fact(out, "name", field_text(f.bytes(2080, 16)));
  add_fact(out, "command line", field_text(f.bytes(28, 2048)));
  out.facts.emplace_back("page", fmt::format("{} bytes", page));
  Pages pages(out, page, f.u32(2096));
  std::uint64_t ramdisk_at = pages.at();
  bool fragments = version >= 4 && f.u32(2116) > 0;
  if (fragments) {
    pages.pass(ramdisk);
  } else {
    pages.add("ramdisk", "ramdisk", ramdisk, at_address(f.u32(20)));
  }
  pages.add("dtb", "device tree", trees, at_address(f.u64(2104)));
  if (version >= 4) {
    if (fragments) add_fragments(*bytes, ramdisk_at, pages.at(), f.u32(2116), f.u32(2120), out);
    pages.pass(f.u32(2112));
    pages.add("bootconfig", "boot configuration", f.u32(2124));
  }
  finish(*bytes, pages.at(), out);
  return make_firmware(std::move(bytes), std::move(out));
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
      .open = open_android_boot};
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
          .open = open_vendor_boot};
}

}  // namespace operculum
