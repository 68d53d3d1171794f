#include "format/filesystem/ntfs_volume.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "codec/lznt1.h"
#include "io/block_content.h"
#include "io/cached_source.h"

namespace operculum::ntfs {
namespace {

constexpr std::string_view kRecordMark = "FILE";
constexpr std::uint64_t kLargestList = 1 << 20;  // bytes of an attribute list

std::string utf8(std::string_view units) {
  return to_utf8(units, "UTF-16LE").value_or("_");
}

/// A count of clusters, or a negative power of two of bytes.
std::uint64_t size_of(std::uint8_t value, std::uint64_t cluster) {
  auto number = static_cast<std::int8_t>(value);
  if (number >= 0) return static_cast<std::uint64_t>(number) * cluster;
  return -number > 31 ? 0 : std::uint64_t{1} << -number;
}

/// The mapping pairs of an attribute that is not resident: lengths and signed steps of as few bytes as
/// needed.
std::vector<Run> read_runs(ByteView raw, std::uint64_t first) {
  std::vector<Run> runs;
  std::int64_t place = 0;
  std::uint64_t at_cluster = first;
  for (std::size_t at = 0; at < raw.size() && raw[at] != 0;) {
    std::size_t length_bytes = raw[at] & 15, step_bytes = raw[at] >> 4;
    ++at;
    if (length_bytes == 0 || length_bytes > 8 || step_bytes > 8 ||
        at + length_bytes + step_bytes > raw.size())
      throw Malformed(fmt::format(
          "NTFS: a mapping pair of {} and {} bytes where {} are left; at most 8 each are possible",
          length_bytes, step_bytes, raw.size() - at));
    std::uint64_t count = 0;
    for (std::size_t i = 0; i < length_bytes; ++i) count |= std::uint64_t{raw[at + i]} << (8 * i);
    at += length_bytes;
    if (count == 0 || count > (std::uint64_t{1} << 40))
      throw Malformed(fmt::format("NTFS: a run of {} clusters; 1 to 2^40 are possible", count));
    Run run{at_cluster, count, std::nullopt};
    if (step_bytes > 0) {
      std::uint64_t step = (raw[at + step_bytes - 1] & 0x80) != 0 ? ~std::uint64_t{0} : 0;
      for (std::size_t i = step_bytes; i-- > 0;) step = (step << 8) | raw[at + i];
      place = static_cast<std::int64_t>(static_cast<std::uint64_t>(place) + step);
      if (place < 0) throw Malformed("NTFS: the mapping pairs of an attribute lead before the volume");
      run.place = static_cast<std::uint64_t>(place);
    }
    at += step_bytes;
    at_cluster += count;
    runs.push_back(run);
  }
  return runs;
}

}  // namespace

const Attribute* Record::find(std::uint32_t type, std::string_view name) const {
  auto found = std::find_if(attributes.begin(), attributes.end(),
                            [&](const Attribute& one) { return one.type == type && one.name == name; });
  return found == attributes.end() ? nullptr : &*found;
}

Boot read_boot(ByteView raw) {
  auto boot = structure_in<BootSector>(raw, "NTFS boot sector");
  if (as_text(boot.oem) != kOemId) throw Malformed("NTFS boot sector: the mark is missing");
  Boot b;
  b.sector = boot.bytes_per_sector;
  std::uint64_t per_cluster = boot.sectors_per_cluster;
  if (per_cluster > 128) per_cluster = std::uint64_t{1} << std::min<std::uint64_t>(256 - per_cluster, 31);
  b.cluster = b.sector * per_cluster;
  if (b.sector < 256 || b.sector > 4096 || (b.sector & (b.sector - 1)) != 0 || per_cluster == 0 ||
      (per_cluster & (per_cluster - 1)) != 0 || b.cluster > (2 << 20))
    throw Malformed(fmt::format(
        "NTFS boot sector: expected sectors of 256 to 4096 bytes and clusters up to 2 MiB, powers of two, "
        "found {} and {}",
        b.sector, b.cluster));
  b.size = checked_mul(boot.total_sectors, b.sector, "the volume's size");
  b.table = checked_mul(boot.mft_cluster, b.cluster, "the place of the master file table");
  b.mirror = checked_mul(boot.mirror_cluster, b.cluster, "the place of the table's mirror");
  b.record = size_of(boot.clusters_per_record, b.cluster);
  b.index_block = size_of(boot.clusters_per_index_block, b.cluster);
  b.serial = boot.serial;
  if (b.record < 512 || b.record > 65536 || b.record % 512 != 0)
    throw Malformed("NTFS boot sector: the size of a file record makes no sense");
  return b;
}

void fix_up(ByteSpan raw, std::string_view mark) {
  auto head = structure_in<MultiSectorHeader>(raw, "NTFS record");
  if (as_text(head.signature) != mark) throw Malformed(fmt::format("NTFS: a record lacks the mark {}", mark));
  std::size_t at = head.sequence_at, count = head.sequence_count;
  if (count < 2 || (count - 1) * sequence_stride > raw.size() || at + count * 2 > raw.size())
    throw Malformed("NTFS: the update sequence of a record makes no sense");
  for (std::size_t i = 1; i < count; ++i) {
    Byte* end = raw.data() + i * sequence_stride - 2;
    if (end[0] != raw[at] || end[1] != raw[at + 1])
      throw Malformed("NTFS: a record was only half written (its update sequence differs)");
    std::copy_n(raw.data() + at + i * 2, 2, end);
  }
}

Volume::Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report)
    : image_(std::move(image)), meta_(make_cached(image_)) {
  try {
    boot_ = read_boot(read_exactly(*image_, 0, boot_sector_size, "NTFS boot sector"));
  } catch (const Malformed& error) {
    std::uint64_t sectors = image_->size() / boot_sector_size,
                  last = sectors - std::min<std::uint64_t>(sectors, 1);
    boot_ = read_boot(
        read_exactly(*image_, last * boot_sector_size, boot_sector_size, "NTFS backup boot sector"));
    report(Finding::Level::fault,
           fmt::format("the boot sector is damaged ({}); its backup at the end was used", error.what()));
  }
  std::string wrong;
  for (std::uint64_t place :
       {boot_.table, boot_.mirror}) {  // the table's own record tells where the rest of it is
    try {
      SourcePtr front = make_slice(meta_, place, 16 * boot_.record);
      Record own;
      parse(raw_record(*front, 0), 0, own);
      const Attribute* data = own.find(data_attribute);
      if (data == nullptr || data->resident) throw Malformed("NTFS: the master file table has no data");
      table_ = front;
      table_ = make_cached(plain(*record(0).find(data_attribute)));
      if (place == boot_.mirror && place != boot_.table)
        report(Finding::Level::fault,
               fmt::format("the master file table is damaged ({}); its mirror was used", wrong));
      return;
    } catch (const Malformed& error) {
      wrong = error.what();
    }
  }
  throw Malformed(fmt::format("the master file table and its mirror are damaged: {}", wrong));
}

Bytes Volume::raw_record(const Source& table, std::uint64_t number) const {
  Bytes raw = read_exactly(table, checked_mul(number, boot_.record, "a file number"), boot_.record,
                           "NTFS file record");
  fix_up(raw, kRecordMark);
  return raw;
}

Record Volume::record(std::uint64_t number) const {
  Record out;
  parse(raw_record(*table_, number_of(number)), number_of(number), out);
  if (const Attribute* list = out.find(attribute_list_attribute))
    add_listed(Attribute(*list), out.number, out);
  return out;
}

void Volume::parse(ByteView raw, std::uint64_t number, Record& out) const {
  LittleFields f(raw, "NTFS file record");
  out.number = number;
  auto head = structure_at<FileRecordHeader>(f, 0);
  out.sequence = head.sequence;
  out.flags = head.flags;
  for (std::size_t at = head.first_attribute;
       at + attribute_head_size <= raw.size() && f.u32(at) != end_attribute;) {
    std::size_t length = f.u32(at + sizeof AttributeHeader::type);
    if (length < least_attribute_size || length > raw.size() - at)
      throw Malformed(fmt::format("NTFS file {}: an attribute has the impossible length {}", number, length));
    LittleFields a(raw.subspan(at, length), "NTFS attribute", at);
    auto header = structure_at<AttributeHeader>(a, 0);
    Attribute one;
    one.type = header.type;
    one.resident = header.form == 0;
    one.flags = header.flags;
    one.name = utf8(a.text(header.name_at, std::size_t{header.name_length} * 2));
    std::uint64_t first = 0;
    if (one.resident) {
      auto form = structure_at<ResidentForm>(a, 0);
      ByteView value = a.bytes(form.value_at, form.value_length);
      one.value.assign(value.begin(), value.end());
      one.size = one.initialised = one.allocated = value.size();
    } else {
      auto form = structure_at<NonresidentForm>(a, 0);
      first = form.lowest_vcn;
      one.runs =
          read_runs(a.bytes(form.pairs_at, length - std::min<std::size_t>(form.pairs_at, length)), first);
      one.unit_bits = form.unit_shift;
      if (first == 0) {
        auto sizes = structure_at<NonresidentSizes>(a, 0);
        one.allocated = sizes.allocated;
        one.size = sizes.size;
        one.initialised = sizes.initialised;
        if (one.unit_bits != 0 && length >= size_on_disk<PackedSize>)
          one.allocated = structure_at<PackedSize>(a, 0).total_allocated;
      }
    }
    add_part(std::move(one), first, out.attributes);
    at += length;
  }
}

/// Parts of one attribute that lie in several records are joined.
void Volume::add_part(Attribute&& part, std::uint64_t first, std::vector<Attribute>& out) const {
  auto same = std::find_if(out.begin(), out.end(), [&](const Attribute& one) {
    return one.type == part.type && one.name == part.name && !one.resident && !part.resident;
  });
  if (part.resident || same == out.end()) {
    out.push_back(std::move(part));
    return;
  }
  if (first == 0) {
    same->size = part.size;
    same->initialised = part.initialised;
    same->allocated = part.allocated;
    same->unit_bits = part.unit_bits;
    same->flags = part.flags;
  }
  same->runs.insert(same->runs.end(), part.runs.begin(), part.runs.end());
  std::stable_sort(same->runs.begin(), same->runs.end(),
                   [](const Run& a, const Run& b) { return a.first < b.first; });
}

void Volume::add_listed(const Attribute& list, std::uint64_t own, Record& out) const {
  Bytes raw = list.resident ? list.value : read_up_to(*plain(list), 0, std::min(list.size, kLargestList));
  LittleFields f(raw, "NTFS attribute list");
  std::vector<std::uint64_t> others;
  constexpr std::size_t entry_size = size_on_disk<ListEntry>;
  for (std::size_t at = 0; at + entry_size <= raw.size();) {
    auto entry = structure_at<ListEntry>(f, at);
    if (entry.length < entry_size) break;
    std::uint64_t number = number_of(entry.segment);
    if (number != own && std::find(others.begin(), others.end(), number) == others.end())
      others.push_back(number);
    at += entry.length;
  }
  for (std::uint64_t number : others) {
    Bytes more = raw_record(*table_, number);
    auto head = structure_in<FileRecordHeader>(more, "NTFS file record");
    if (number_of(head.base) != own)
      throw Malformed(fmt::format("NTFS file {}: its record {} belongs to another file", own, number));
    Record part;
    parse(more, number, part);
    for (Attribute& one : part.attributes) {
      std::uint64_t first = one.runs.empty() ? 0 : one.runs.front().first;
      add_part(std::move(one), first, out.attributes);
    }
  }
}

// ---- data

SourcePtr Volume::plain(const Attribute& attribute) const {
  if (attribute.resident) return make_memory_source(attribute.value);
  std::vector<Extent> extents;
  std::uint64_t limit = std::min(attribute.size, attribute.initialised);
  for (const Run& run : attribute.runs) {
    std::uint64_t logical = checked_mul(run.first, boot_.cluster, "an attribute's place");
    if (!run.place || logical >= limit) continue;
    std::uint64_t length =
        std::min(checked_mul(run.count, boot_.cluster, "an attribute's run"), limit - logical);
    extents.push_back({logical, checked_mul(*run.place, boot_.cluster, "an attribute's place"), length});
  }
  return make_extent_source(image_, std::move(extents), attribute.size);
}

ContentPtr Volume::content(const Attribute& attribute) const {
  if ((attribute.flags & encrypted_attribute_flag) != 0)
    throw Unsupported("files encrypted by the file system");
  if (!attribute.resident && (attribute.flags & compressed_attribute_flag) != 0 && attribute.unit_bits != 0)
    return compressed(attribute);
  return make_content(plain(attribute));
}

/// Units of usually 16 clusters: full ones are plain, ones with nothing are zeros, the rest are packed.
ContentPtr Volume::compressed(const Attribute& attribute) const {
  if (attribute.unit_bits > 8) throw Malformed("NTFS: the compression unit makes no sense");
  constexpr std::uint64_t kMostUnits = 1 << 24;  // 1 TiB in units of the usual size
  std::uint64_t unit_clusters = std::uint64_t{1} << attribute.unit_bits, unit = unit_clusters * boot_.cluster;
  if (attribute.size / unit > kMostUnits)
    throw Malformed(
        fmt::format("NTFS: a compressed file of {} bytes is larger than any here", attribute.size));
  auto units = std::make_shared<std::vector<std::vector<Extent>>>();
  std::vector<Block> blocks;
  std::size_t run = 0;
  for (std::uint64_t at = 0; at < attribute.size; at += unit) {
    std::uint64_t begin = at / boot_.cluster, end = begin + unit_clusters, packed = 0;
    std::vector<Extent> extents;
    while (run < attribute.runs.size() && attribute.runs[run].first + attribute.runs[run].count <= begin)
      ++run;
    for (std::size_t i = run; i < attribute.runs.size() && attribute.runs[i].first < end; ++i) {
      const Run& one = attribute.runs[i];
      if (!one.place) continue;
      std::uint64_t first = std::max(one.first, begin), last = std::min(one.first + one.count, end);
      extents.push_back(
          {packed, (*one.place + (first - one.first)) * boot_.cluster, (last - first) * boot_.cluster});
      packed += (last - first) * boot_.cluster;
    }
    blocks.push_back({at, std::min(unit, attribute.size - at), units->size(), packed,
                      packed == unit ? 1U : 0U, packed == 0});
    units->push_back(std::move(extents));
  }
  return make_block_content(std::move(blocks), [units, image = image_](const Block& block, ByteSpan out) {
    SourcePtr stored = make_extent_source(image, (*units)[block.stored_offset], block.stored_size);
    if (block.tag == 1) {
      if (stored->read_at(0, out) < out.size())
        throw CutShort("a compression unit is not all there; the image is cut short");
      return;
    }
    if (block.stored_size == 0) {
      std::fill(out.begin(), out.end(), Byte{0});
      return;
    }
    decode_lznt1(read_exactly(*stored, 0, block.stored_size, "NTFS compression unit"), out);
  });
}

}  // namespace operculum::ntfs
