// VMDK: sparse and stream-optimised extents, and descriptors with their extents, after the Virtual Disk
// Format specification 5.0. A sparse extent, in sectors of 512 bytes, little-endian:
//
//   header | descriptor (text) | grain directory | grain tables | grains
//
// A stream-optimised one has packed grains, each behind a marker, and the directory at its end, where a copy
// of the header tells its place.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/checked.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "codec/block.h"
#include "container/record_fields.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/cached_source.h"
#include "io/extent_source.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic = 0x564D444B;  // "KDMV"
constexpr std::string_view kDescriptorMark = "# Disk DescriptorFile";
constexpr std::uint64_t kSector = 512, kAtEnd = ~std::uint64_t{0};
constexpr std::uint64_t kLongestDescriptor = 1 << 20;
enum Flag : std::uint32_t { zero_grains_flag = 1 << 2, packed_flag = 1 << 16 };

/// SparseExtentHeader; sectors.
struct Header {
  std::uint32_t magic = 0, version = 0, flags = 0;
  std::uint64_t capacity = 0, grain = 0, descriptor_at = 0, descriptor_size = 0;
  std::uint32_t per_table = 0;
  std::uint64_t redundant_directory = 0, directory = 0, overhead = 0;
  std::uint8_t unclean = 0;
  static constexpr auto layout = little_endian(
      field("magicNumber", &Header::magic), field("version", &Header::version),
      field("flags", &Header::flags), field("capacity", &Header::capacity),
      field("grainSize", &Header::grain), field("descriptorOffset", &Header::descriptor_at),
      field("descriptorSize", &Header::descriptor_size), field("numGTEsPerGT", &Header::per_table),
      field("rgdOffset", &Header::redundant_directory), field("gdOffset", &Header::directory),
      field("overHead", &Header::overhead), field("uncleanShutdown", &Header::unclean));
};

/// GrainMarker, in front of a packed grain.
struct GrainMarker {
  std::uint64_t sector = 0;
  std::uint32_t size = 0;
  static constexpr auto layout =
      little_endian(field("lba", &GrainMarker::sector), field("size", &GrainMarker::size));
};

Header read_header(const Source& file, std::uint64_t at) {
  Bytes raw = read_exactly(file, at, kSector, "VMDK header");
  auto h = structure_in<Header>(raw, "VMDK header", at);
  if (h.magic != kMagic) throw Malformed("VMDK header: the magic is missing");
  if (h.version < 1 || h.version > 3) throw Unsupported(fmt::format("VMDK extents of version {}", h.version));
  if (h.grain == 0 || h.grain > 65536 || (h.grain & (h.grain - 1)) != 0 || h.per_table == 0 ||
      h.per_table > (1 << 20) || h.capacity > (std::uint64_t{1} << 50))
    throw Malformed(fmt::format(
        "VMDK header: expected grains of a power of two up to 65536 sectors, tables of 1 to 2^20 and at "
        "most 2^50 sectors, found {}, {} and {}",
        h.grain, h.per_table, h.capacity));
  return h;
}

/// Images that were written in one go keep the place of their directory in a copy of the header at the end.
Header with_directory(const Source& file, const Header& front) {
  if (front.directory != kAtEnd) return front;
  constexpr std::uint64_t kFromEnd = 1024;
  if (file.size() < 2 * kFromEnd)
    throw CutShort("VMDK: the header's copy at the end is missing; the image is cut short");
  try {
    return read_header(file, file.size() / kSector * kSector - kFromEnd);
  } catch (const Malformed&) {
    throw CutShort("VMDK: the header's copy at the end is missing; the image is cut short");
  }
}

class SparseExtent final : public MappedSource {
 public:
  SparseExtent(SourcePtr file, const Header& header, const SourcePtr& parent)
      : MappedSource(file, header.capacity * kSector, parent),
        tables_(make_cached(file)),
        file_(std::move(file)),
        header_(header),
        has_parent_(parent != nullptr) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t grain = header_.grain * kSector, index = offset / grain, within = offset % grain,
                  left = grain - within;
    auto absent = has_parent_ ? MappedRun::From::parent : MappedRun::From::zeros;
    std::uint64_t table =
        word(checked_add(header_.directory * kSector, index / header_.per_table * 4, "the grain directory"));
    std::uint64_t covered = grain * header_.per_table;
    if (table == 0) return {absent, covered - offset % covered};
    std::uint64_t place = word(table * kSector + index % header_.per_table * 4);
    if (place == 0) return {absent, left};
    if (place == 1 && (header_.flags & zero_grains_flag) != 0) return {MappedRun::From::zeros, left};
    if ((header_.flags & packed_flag) != 0) return {MappedRun::From::packed, left, place * kSector, within};
    return {MappedRun::From::stored, left, place * kSector + within};
  }

  Bytes unpack(std::uint64_t at) const override {
    constexpr std::size_t marker_size = size_on_disk<GrainMarker>;
    std::uint32_t size =
        read_structure<GrainMarker>(read_exactly(*file_, at, marker_size, "VMDK grain").data()).size;
    std::uint64_t grain = header_.grain * kSector;
    if (size > 2 * grain + 4096)
      throw Malformed(fmt::format("VMDK grain at offset {}: {} packed bytes are not possible", at, size));
    Bytes packed = read_exactly(*file_, at + marker_size, size, "VMDK grain"),
          out(static_cast<std::size_t>(grain));
    std::size_t count = decode_block(BlockCodec::zlib, packed, out);
    std::fill(out.begin() + static_cast<std::ptrdiff_t>(count), out.end(), Byte{0});
    return out;
  }

 private:
  std::uint32_t word(std::uint64_t at) const {
    return load_little<std::uint32_t>(read_exactly(*tables_, at, 4, "VMDK grain table").data());
  }

  SourcePtr tables_, file_;
  Header header_;
  bool has_parent_;
};

/// One line of a descriptor's list: RW 4192256 SPARSE "gauge-s001.vmdk".
struct ExtentLine {
  std::uint64_t sectors = 0, offset = 0;
  std::string kind, file;
};
constexpr std::string_view kNoParent = "ffffffff";  // parentCID of an image without one
struct Descriptor {
  std::string type, parent, id, parent_id;
  std::vector<ExtentLine> extents;
};

Descriptor read_descriptor(std::string_view text) {
  Descriptor out;
  text = until_zero(text);
  for (std::string_view line : split(text, '\n')) {
    line = trim(line);
    std::size_t equals = line.find('=');
    auto value = [&] {
      std::string_view raw = trim(line.substr(equals + 1));
      return std::string(raw.size() >= 2 && raw.front() == '"' ? raw.substr(1, raw.size() - 2) : raw);
    };
    struct Setting {
      std::string_view name;
      std::string Descriptor::*to;
    };
    constexpr Setting kSettings[] = {{"createtype", &Descriptor::type},
                                     {"parentfilenamehint", &Descriptor::parent},
                                     {"cid", &Descriptor::id},
                                     {"parentcid", &Descriptor::parent_id}};
    for (const Setting& setting : kSettings)
      if (equals != std::string_view::npos && to_lower(trim(line.substr(0, equals))) == setting.name)
        out.*setting.to = value();
    if (!line.starts_with("RW ") && !line.starts_with("RDONLY ") && !line.starts_with("NOACCESS ")) continue;
    std::size_t quote = line.find('"'), end = line.rfind('"');
    std::vector<std::string_view> words;
    for (std::string_view word : split(line.substr(0, quote), ' ')) {
      if (!word.empty()) words.push_back(word);
    }
    if (words.size() < 3) continue;
    ExtentLine extent;
    extent.sectors = parse_number(words[1]).value_or(0);
    extent.kind = words[2];
    if (quote != std::string_view::npos && end > quote) {
      extent.file = line.substr(quote + 1, end - quote - 1);
      extent.offset = parse_number(trim(line.substr(end + 1))).value_or(0);
    }
    out.extents.push_back(std::move(extent));
  }
  return out;
}

/// The extents of a descriptor, each in a file beside it, as one disk.
SourcePtr join_extents(const Input& input, const Descriptor& descriptor, const SourcePtr& parent,
                       DiskImage& image) {
  std::vector<SourcePtr> parts;
  std::set<std::string> names;
  std::uint64_t start = 0;
  for (const ExtentLine& extent : descriptor.extents) {
    std::uint64_t size = checked_mul(extent.sectors, kSector, "an extent");
    SourcePtr part;
    if (extent.kind == "ZERO") {
      part = make_extent_source(make_memory_source({}), {}, size);
    } else {
      if (extent.file.find('/') != std::string::npos)
        throw Unsupported(fmt::format("a part in another folder, \"{}\"", escape(extent.file)));
      SourcePtr file = input.sibling ? input.sibling(extent.file) : nullptr;
      if (!file)
        throw Malformed(fmt::format("its part \"{}\" is not beside it; put it there", escape(extent.file)));
      if (extent.kind == "SPARSE") {
        SourcePtr above = parent ? make_slice(parent, start, size) : nullptr;
        Header header = with_directory(*file, read_header(*file, 0));
        if ((header.flags & packed_flag) != 0) image.method = "zlib";
        part = make_slice(std::make_shared<SparseExtent>(file, header, above), 0, size);
      } else if (extent.kind == "FLAT" || extent.kind == "VMFS") {
        if (file->size() % kSector != 0)
          throw Malformed(fmt::format("its part \"{}\" is no disk: {} bytes are no whole sectors",
                                      escape(extent.file), file->size()));
        part = make_slice(file, extent.offset * kSector, size);
      } else {
        throw Unsupported(fmt::format("VMDK extents of kind {}", escape(extent.kind)));
      }
      if (part->size() < size)
        throw CutShort(fmt::format("its part \"{}\" is cut short", escape(extent.file)));
    }
    parts.push_back(std::move(part));
    if (!extent.file.empty()) names.insert(extent.file);
    start += size;
  }
  if (parts.empty()) throw Malformed("VMDK descriptor: it names no extents");
  if (!names.empty()) image.facts.emplace_back("parts", fmt::format("{}", fmt::join(names, ", ")));
  return make_joined(std::move(parts));
}

Match recognise_vmdk(Probe& probe) {
  ByteView head = probe.head(512);
  if (head.size() >= 4 && load_little<std::uint32_t>(head.data()) == kMagic) return Match::front;
  return starts_with(head, kDescriptorMark) ? Match::front : Match::none;
}

ContainerPtr open_vmdk(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  DiskImage image;
  Descriptor descriptor;
  std::optional<Header> header;
  Bytes head = read_up_to(*file, 0, 512);
  if (starts_with(head, kDescriptorMark)) {
    Bytes text = read_up_to(*file, 0, kLongestDescriptor);
    descriptor = read_descriptor(as_text(text));
  } else {
    Header front = read_header(*file, 0);
    header = with_directory(*file, front);
    Bytes text = read_up_to(*file, front.descriptor_at * kSector,
                            std::min(front.descriptor_size * kSector, kLongestDescriptor));
    descriptor = read_descriptor(as_text(text));
    if (header->unclean)
      image.findings.push_back(
          {Finding::Level::warning, "it was not closed properly: the newest changes may be missing"});
  }
  if (!descriptor.type.empty()) image.facts.emplace_back("kind", descriptor.type);
  if (!descriptor.id.empty()) image.facts.emplace_back(kIdFact, to_lower(descriptor.id));
  SourcePtr parent;
  if (!descriptor.parent.empty()) {
    image.facts.emplace_back("parent", descriptor.parent);
    ParentImage wanted{descriptor.parent, {}};
    if (std::string id = to_lower(descriptor.parent_id); !id.empty() && id != kNoParent) wanted.ids = {id};
    parent = open_parent(input, context, wanted, image.findings);
  }
  if (header) {
    image.facts.emplace_back("grain", fmt::format("{} bytes", header->grain * kSector));
    if ((header->flags & packed_flag) != 0) image.method = "zlib";
    image.bytes = std::make_shared<SparseExtent>(file, *header, parent);
  } else {
    image.facts.emplace_back("extents", std::to_string(descriptor.extents.size()));
    image.bytes = join_extents(input, descriptor, parent, image);
  }
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format vmdk_format() {
  return {.id = "vmdk",
          .name = "VMDK disk image",
          .family = "disk image",
          .specification = "Virtual Disk Format 5.0",
          .reads =
              "monolithic sparse and stream-optimised images, descriptors with flat, sparse and zero extents "
              "beside them; parents beside it",
          .lacks = "sparse extents of the older server kind (COWD)",
          .suffixes = {".vmdk"},
          .single_stream = true,
          .recognise = recognise_vmdk,
          .open = open_vmdk,
          .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
