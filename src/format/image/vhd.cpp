// VHD: fixed, dynamic and differencing, after the Virtual Hard Disk Image Format Specification 1.0.
#include <fmt/format.h>

#include <algorithm>

#include "base/sum_text.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "format/image/image_blocks.h"
#include "format/image/vhd_records.h"
#include "format/image/vhd_rewrite.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

using namespace vhd;

constexpr std::string_view kMark = "conectix", kDynamicMark = "cxsparse";
/// Whether a structure of the type fits the checksum in it.
template <typename S>
bool sum_fits(ByteView raw) {
  return checksum_of(raw, place_of(&S::checksum).at) == read_structure<S>(raw.data()).checksum;
}

/// What is told of that where it does not.
template <typename S>
std::string wrong_sums(ByteView raw) {
  return told_sums(read_structure<S>(raw.data()).checksum, checksum_of(raw, place_of(&S::checksum).at));
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
        bitmap_(bitmap_size(block)),
        difference_(difference) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t index = offset / block_, within = offset % block_, left = block_ - within;
    auto absent = difference_ ? MappedRun::From::parent : MappedRun::From::zeros;
    if (index >= entries_) return {absent, size() - offset};
    std::uint64_t sector = load_number(
        read_exactly(*tables_, table_ + index * 4, 4, "VHD block table").data(), 4, std::endian::big);
    if (sector == kUnused) return {absent, left};
    std::uint64_t at = sector * kSector;
    if (!difference_) return {MappedRun::From::stored, left, at + bitmap_ + within};
    auto bit = [&](std::uint64_t number) {
      Bytes raw = read_exactly(*tables_, at + number / 8, 1, "VHD sector bitmap");
      return (raw[0] >> (7 - number % 8) & 1) != 0;
    };
    std::uint64_t first = within / kSector, last = first + 1;
    bool own = bit(first);
    while (last < block_ / kSector && last - first < 4096 && bit(last) == own) ++last;
    std::uint64_t length = last * kSector - within;
    return own ? MappedRun{MappedRun::From::stored, length, at + bitmap_ + within}
               : MappedRun{absent, length};
  }

 private:
  SourcePtr tables_;
  std::uint64_t table_, entries_, block_, bitmap_;
  bool difference_;
};

std::uint64_t end_of_image(const Source& file) {
  return file.size() / kFooterSize * kFooterSize;
}

/// The footer is at the end; what has blocks of its own repeats it at the front.
Bytes find_footer(const Source& file, std::vector<Finding>& findings) {
  std::uint64_t end = end_of_image(file);
  Bytes last = end >= kFooterSize ? read_up_to(file, end - kFooterSize, kFooterSize) : Bytes();
  Bytes first = read_up_to(file, 0, kFooterSize);
  first.resize(kFooterSize);
  if (starts_with(last, kMark) && sum_fits<Footer>(last)) return last;
  if (starts_with(first, kMark) && sum_fits<Footer>(first)) {
    findings.push_back(
        {Finding::Level::warning,
         "the footer is missing at the end: the image may be cut short; its copy at the front was used"});
    return first;
  }
  if (starts_with(last, kMark) || starts_with(first, kMark)) {
    Bytes& one = starts_with(last, kMark) ? last : first;
    findings.push_back(
        {Finding::Level::warning, "the footer does not fit its checksum" + wrong_sums<Footer>(one)});
    return one;
  }
  throw Malformed("VHD: there is no footer");
}

Match recognise_vhd(Probe& probe) {
  if (starts_with(probe.head(8), kMark)) return Match::front;
  ByteView tail = probe.tail(kFooterSize);
  bool fits = tail.size() == kFooterSize && starts_with(tail, kMark) && sum_fits<Footer>(tail);
  return fits ? Match::front : Match::none;
}

/// A unique id as text; empty when none was written.
std::string id_of(ByteView bytes) {
  bool written = std::any_of(bytes.begin(), bytes.end(), [](Byte b) { return b != 0; });
  return written ? to_hex(bytes) : "";
}

std::string name_of_parent(ByteView header) {
  std::string_view units = as_text(header.subspan(kParentNameAt, kParentNameSize));
  std::size_t length = 0;
  while (length + 1 < units.size() && (units[length] != 0 || units[length + 1] != 0)) length += 2;
  return to_utf8(units.substr(0, length), "UTF-16BE").value_or("");
}

/// What has blocks: dynamic and differencing images.
void open_blocks(const Input& input, OpenContext& context, const SourcePtr& file, const Footer& footer,
                 DiskImage& image) {
  Bytes raw = read_exactly(*file, footer.data_offset, kDynamicSize, "VHD dynamic header");
  if (!starts_with(raw, kDynamicMark)) throw Malformed("VHD dynamic header: the mark is missing");
  if (!sum_fits<DynamicHeader>(raw))
    image.findings.push_back({Finding::Level::warning, "the dynamic header does not fit its checksum" +
                                                           wrong_sums<DynamicHeader>(raw)});
  auto header = read_structure<DynamicHeader>(raw.data());
  std::uint64_t block = header.block_size;
  if (block < 4096 || block % kSector != 0 || (block & (block - 1)) != 0)
    throw Malformed(fmt::format("VHD dynamic header: blocks of {} bytes are not possible", block));
  bool difference = footer.disk_type == differencing;
  SourcePtr parent;
  if (difference) {
    std::string name = name_of_parent(raw), id = id_of(header.parent_id);
    image.facts.emplace_back("parent", name);
    parent = open_parent(input, context, {name, id.empty() ? std::vector<std::string>() : std::vector{id}},
                         image.findings);
  }
  image.bytes = std::make_shared<VhdSource>(file, footer.current_size, header.table_offset,
                                            header.max_table_entries, block, std::move(parent), difference);
  if (!image.findings.empty()) return;  // what is not whole is not written
  image.rewrite = [file, header, disk = image.bytes](const SourcePtr& changed) {
    return vhd::rewrite(file, end_of_image(*file) - kFooterSize, header, *disk, changed);
  };
}

ContainerPtr open_vhd(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  DiskImage image;
  auto footer = read_structure<Footer>(find_footer(*file, image.findings).data());
  constexpr std::int64_t kFrom2000 = 946684800;
  image.facts = {{"kind", footer.disk_type == fixed     ? "fixed"
                          : footer.disk_type == dynamic ? "dynamic"
                                                        : "difference"},
                 {"made", to_text(from_unix(kFrom2000 + footer.time_stamp))}};
  if (std::string id = id_of(footer.unique_id); !id.empty()) image.facts.emplace_back(kIdFact, id);
  if (footer.disk_type == fixed) {
    image.bytes = make_slice(file, 0, footer.current_size);
    if (image.bytes->size() < footer.current_size)
      image.findings.push_back({Finding::Level::fault, "the image is cut short"});
  } else if (footer.disk_type == dynamic || footer.disk_type == differencing) {
    open_blocks(input, context, file, footer, image);
  } else {
    throw Unsupported(fmt::format("VHD images of kind {}", footer.disk_type));
  }
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
      .writes = "another content of the disk; dynamic images of a raw disk, fixed ones with --method stored",
      .suffixes = {".vhd", ".avhd"},
      .single_stream = true,
      .recognise = recognise_vhd,
      .open = open_vhd,
      .pack = pack_vhd,
      .records = {record_at_end<Footer>("footer")}};
}

}  // namespace operculum
