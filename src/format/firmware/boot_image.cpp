// The legacy boot image ("uImage"), after the header file of the boot loader that defined it
// (include/image.h): a header of 64 bytes, numbers highest byte first, with a CRC-32 of itself and one of the
// data behind it. A multi-file image begins its data with the sizes of its files, which follow each at a
// multiple of 4 bytes; a script has one such size. `sz` counts the data, the header not.
#include <fmt/format.h>

#include "base/checksum.h"
#include "base/structure.h"
#include "base/text.h"
#include "base/units.h"
#include "container/record_fields.h"
#include "format/firmware/boot_names.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "io/digest.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic = 0x27051956;
constexpr std::size_t kMostFiles = 1024;

struct Header {
  std::uint32_t ih_magic = 0, ih_hcrc = 0, ih_time = 0, ih_size = 0, ih_load = 0, ih_ep = 0, ih_dcrc = 0;
  std::uint8_t ih_os = 0, ih_arch = 0, ih_type = 0, ih_comp = 0;
  std::array<Byte, 32> ih_name{};
  static constexpr auto layout = big_endian(
      field("ih_magic", &Header::ih_magic), field("ih_hcrc", &Header::ih_hcrc),
      field("ih_time", &Header::ih_time), field("ih_size", &Header::ih_size),
      field("ih_load", &Header::ih_load), field("ih_ep", &Header::ih_ep), field("ih_dcrc", &Header::ih_dcrc),
      field("ih_os", &Header::ih_os), field("ih_arch", &Header::ih_arch), field("ih_type", &Header::ih_type),
      field("ih_comp", &Header::ih_comp), field("ih_name", &Header::ih_name));
};
constexpr std::size_t kHeaderSize = size_on_disk<Header>;

enum Type : std::uint8_t { multi = 4, script = 6 };

/// The header's CRC-32 is taken with the field that holds it as zeros.
bool header_fits(ByteView raw, const Header& header) {
  Bytes copy(raw.begin(), raw.begin() + kHeaderSize);
  std::fill_n(copy.begin() + 4, 4, Byte{0});
  return crc32(0, copy) == header.ih_hcrc;
}

Match recognise_boot_image(Probe& probe) {
  ByteView head = probe.head(kHeaderSize);
  if (head.size() < kHeaderSize) return Match::none;
  auto header = read_structure<Header>(head.data());
  if (header.ih_magic != kMagic) return Match::none;
  if (header_fits(head, header)) return Match::front;
  bool likely = header.ih_type != 0 && header.ih_type < 64 && header.ih_arch < 64 && header.ih_comp < 16;
  return likely && probe.size().value_or(UINT64_MAX) >= kHeaderSize ? Match::front : Match::none;
}

/// The files of a multi-file image or a script: sizes up to a zero, then the files.
void add_files(const Source& bytes, const Header& header, std::uint64_t end, Firmware& out) {
  std::vector<std::uint32_t> sizes;
  std::uint64_t at = kHeaderSize;
  for (;; at += 4) {
    Bytes raw = read_exactly(bytes, at, 4, "table of files");
    auto size = static_cast<std::uint32_t>(Cursor(raw, "table of files", at).u32be());
    if (size == 0) break;
    if (sizes.size() == kMostFiles) throw Malformed("a multi-file image of more than 1,024 files");
    sizes.push_back(size);
  }
  at += 4;
  for (std::size_t i = 0; i < sizes.size(); ++i) {
    std::string path = header.ih_type == script ? "script" : fmt::format("file-{}", i);
    out.parts.push_back({.path = path, .type = boot_type_name(header.ih_type), .at = at, .size = sizes[i]});
    at += (std::uint64_t{sizes[i]} + 3) / 4 * 4;
  }
  if (at > (end + 3) / 4 * 4)
    out.fault(fmt::format("the files take {} bytes, the header states {}", at - kHeaderSize, header.ih_size));
}

ContainerPtr open_boot_image(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Bytes raw = read_exactly(*bytes, 0, kHeaderSize, "boot image header");
  auto header = read_structure<Header>(raw.data());
  Firmware out;
  std::string name = field_text(header.ih_name);
  out.facts = {{"name", name},
               {"type", boot_type_name(header.ih_type)},
               {"for", fmt::format("{} on {}", boot_os_name(header.ih_os), boot_arch_name(header.ih_arch))},
               {"made", to_text(from_unix(header.ih_time))},
               {"data", fmt::format("{} bytes, {}", grouped(header.ih_size), boot_comp_name(header.ih_comp))},
               {"load address", hex_number(header.ih_load)},
               {"entry point", hex_number(header.ih_ep)}};
  if (!header_fits(raw, header))
    out.fault("the header does not fit its checksum: addresses and names may be wrong");
  std::uint64_t end = kHeaderSize + std::uint64_t{header.ih_size};
  bool whole = end <= bytes->size();
  bool several = header.ih_type == multi || header.ih_type == script;
  if (several) {
    add_files(*bytes, header, end, out);
    // One checksum covers all files and the table: each file is as sure as the whole.
    if (whole) {
      StreamPtr data = make_source_stream(bytes, kHeaderSize, header.ih_size);
      std::uint32_t sum = sums_of_stream(*data, Sums::crc32, [](std::uint64_t) {}).crc32.value_or(0);
      if (!sum_fits(sum, header.ih_dcrc))
        out.fault(fmt::format("the data does not fit its checksum: expected {:08x}, found {:08x}",
                              header.ih_dcrc, sum));
    }
  } else {
    out.parts.push_back({.path = part_name(boot_type_name(header.ih_type), "data"),
                         .type = boot_type_name(header.ih_type),
                         .at = kHeaderSize,
                         .size = header.ih_size,
                         .comment = name,
                         .expected = {.crc32 = header.ih_dcrc},
                         .modified = from_unix(header.ih_time)});
  }
  if (whole) add_what_is_behind(*bytes, end, out);
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format boot_image_format() {
  return {
      .id = "boot-image",
      .name = "legacy boot image",
      .family = "firmware",
      .specification = "the boot loader's header file include/image.h",
      .reads = "single and multi-file images, scripts, checksums of header and data, what follows the image",
      .lacks = "",
      .suffixes = {".uimg", ".uimage"},
      .recognise = recognise_boot_image,
      .open = open_boot_image,
      .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
