// VHD: fixed, dynamic and differencing, after the Virtual Hard Disk Image Format Specification 1.0.
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "format/formats.h"
#include "format/image/disk_image.h"
#include "format/image/image_blocks.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "conectix", kDynamicMark = "cxsparse";
constexpr std::size_t kIdSize = 16;  // of a unique id, in bytes
constexpr std::size_t kFooter = 512, kDynamic = 1024;
enum Kind : std::uint32_t { kFixed = 2, kDynamicKind = 3, kDifference = 4 };

/// One's complement of the sum of all bytes except those at `hole`.
bool sum_fits(ByteView raw, std::size_t hole) {
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < raw.size(); ++i) sum += i >= hole && i < hole + 4 ? 0 : raw[i];
  return ~sum == BigFields(raw, "VHD").u32(hole);
}

class VhdSource final : public MappedSource {
 public:
  VhdSource(SourcePtr file, std::uint64_t size, std::uint64_t table, std::uint64_t entries,
            std::uint64_t block, SourcePtr parent, bool difference)
      : MappedSource(file, size, std::move(parent)),
        tables_(make_cached(std::move(file))),
        table_(table),
        entries_(entries),
        block_(block),
        bitmap_((block / 512 / 8 + 511) / 512 * 512),
        difference_(difference) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t index = offset / block_, within = offset % block_, left = block_ - within;
    auto absent = difference_ ? MappedRun::From::parent : MappedRun::From::zeros;
    if (index >= entries_) return {absent, size() - offset};
    std::uint64_t sector =
        BigFields(read_exactly(*tables_, table_ + index * 4, 4, "VHD block table"), "VHD block table").u32(0);
    if (sector == 0xFFFFFFFF) return {absent, left};
    std::uint64_t at = sector * 512;
    if (!difference_) return {MappedRun::From::stored, left, at + bitmap_ + within};
    auto bit = [&](std::uint64_t number) {
      Bytes raw = read_exactly(*tables_, at + number / 8, 1, "VHD sector bitmap");
      return (raw[0] >> (7 - number % 8) & 1) != 0;
    };
    std::uint64_t first = within / 512, last = first + 1;
    bool own = bit(first);
    while (last < block_ / 512 && last - first < 4096 && bit(last) == own) ++last;
    std::uint64_t length = last * 512 - within;
    return own ? MappedRun{MappedRun::From::stored, length, at + bitmap_ + within}
               : MappedRun{absent, length};
  }

 private:
  SourcePtr tables_;
  std::uint64_t table_, entries_, block_, bitmap_;
  bool difference_;
};

/// The footer is at the end; what has blocks of its own repeats it at the front.
Bytes find_footer(const Source& file, std::vector<Finding>& findings) {
  std::uint64_t end = file.size() / kFooter * kFooter;
  Bytes last = end >= kFooter ? read_up_to(file, end - kFooter, kFooter) : Bytes();
  Bytes first = read_up_to(file, 0, kFooter);
  if (starts_with(last, kMark) && sum_fits(last, 64)) return last;
  if (starts_with(first, kMark) && sum_fits(first, 64)) {
    findings.push_back(
        {Finding::Level::warning,
         "the footer is missing at the end: the image may be cut short; its copy at the front was used"});
    return first;
  }
  if (starts_with(last, kMark) || starts_with(first, kMark)) {
    findings.push_back({Finding::Level::warning, "the footer does not fit its checksum"});
    return starts_with(last, kMark) ? last : first;
  }
  throw Malformed("VHD: there is no footer");
}

Match recognise_vhd(Probe& probe) {
  if (starts_with(probe.head(8), kMark)) return Match::front;
  ByteView tail = probe.tail(kFooter);
  return tail.size() == kFooter && starts_with(tail, kMark) && sum_fits(tail, 64) ? Match::front
                                                                                  : Match::none;
}

/// A unique id as text; empty when none was written.
std::string id_of(ByteView bytes) {
  bool written = std::any_of(bytes.begin(), bytes.end(), [](Byte b) { return b != 0; });
  return written ? to_hex(bytes) : "";
}

ContainerPtr open_vhd(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  DiskImage image;
  Bytes footer = find_footer(*file, image.findings);
  BigFields f(footer, "VHD footer");
  std::uint64_t size = f.u64(48), header_at = f.u64(16);
  std::uint32_t kind = f.u32(60);
  constexpr std::int64_t kFrom2000 = 946684800;
  image.facts = {{"kind", kind == kFixed         ? "fixed"
                          : kind == kDynamicKind ? "dynamic"
                                                 : "difference"},
                 {"made", to_text(from_unix(kFrom2000 + f.u32(24)))}};
  if (std::string id = id_of(f.bytes(68, kIdSize)); !id.empty()) image.facts.emplace_back(kIdFact, id);
  if (kind == kFixed) {
    image.bytes = make_slice(file, 0, size);
    if (image.bytes->size() < size)
      image.findings.push_back({Finding::Level::fault, "the image is cut short"});
    return make_disk_image(input, std::move(image));
  }
  if (kind != kDynamicKind && kind != kDifference)
    throw Unsupported(fmt::format("VHD images of kind {}", kind));
  Bytes header = read_exactly(*file, header_at, kDynamic, "VHD dynamic header");
  if (!starts_with(header, kDynamicMark)) throw Malformed("VHD dynamic header: the mark is missing");
  if (!sum_fits(header, 36))
    image.findings.push_back({Finding::Level::warning, "the dynamic header does not fit its checksum"});
  BigFields h(header, "VHD dynamic header", header_at);
  std::uint64_t block = h.u32(32);
  if (block < 4096 || block % 512 != 0 || (block & (block - 1)) != 0)
    throw Malformed(fmt::format("VHD dynamic header: blocks of {} bytes are not possible", block));
  SourcePtr parent;
  if (kind == kDifference) {
    std::string_view units = h.text(64, 512);
    std::size_t length = 0;
    while (length + 1 < units.size() && (units[length] != 0 || units[length + 1] != 0)) length += 2;
    std::string name = to_utf8(units.substr(0, length), "UTF-16BE").value_or("");
    image.facts.emplace_back("parent", name);
    std::string id = id_of(h.bytes(40, kIdSize));
    parent = open_parent(input, context, {name, id.empty() ? std::vector<std::string>() : std::vector{id}},
                         image.findings);
  }
  image.bytes = std::make_shared<VhdSource>(file, size, h.u64(16), h.u32(28), block, std::move(parent),
                                            kind == kDifference);
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format vhd_format() {
  return {
      .id = "vhd",
      .name = "VHD disk image",
      .family = "disk image",
      .specification = "Virtual Hard Disk Image Format Specification 1.0",
      .reads =
          "fixed, dynamic and differencing images with the parent beside them, checksums, a missing footer",
      .lacks = "",
      .writes = "dynamic images, of a raw disk",
      .suffixes = {".vhd", ".avhd"},
      .single_stream = true,
      .recognise = recognise_vhd,
      .open = open_vhd,
      .pack = pack_vhd};
}

}  // namespace operculum
