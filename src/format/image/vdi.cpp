// VDI disk images, version 1.1, after the format's published description (its header with the comments of the
// emulators that write it). A header, a map of 32-bit block numbers, then the blocks in the order in which
// they were first written.
#include <fmt/format.h>

#include <algorithm>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/cached_source.h"
#include "io/mapped_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint32_t kSignature = 0xBEDA107F, kVersion = 0x00010001;
constexpr std::uint32_t kAbsent = 0xFFFFFFFF, kZeros = 0xFFFFFFFE;
constexpr std::size_t kSignatureAt = 64;

struct Header {
  std::uint32_t signature = 0, version = 0, header_size = 0, type = 0, flags = 0;
  std::array<Byte, 256> comment = {};
  std::uint32_t blocks_at = 0, data_at = 0, sector = 0;
  std::uint64_t disk_size = 0;
  std::uint32_t block_size = 0, block_extra = 0, blocks = 0, allocated = 0;
  std::array<Byte, 16> id = {}, changed_id = {}, parent_id = {}, parent_changed_id = {};
  static constexpr auto layout = little_endian(
      from_byte<kSignatureAt>(), field("signature", &Header::signature), field("version", &Header::version),
      field("header size", &Header::header_size), field("image type", &Header::type),
      field("flags", &Header::flags), field("comment", &Header::comment),
      field("offset of blocks", &Header::blocks_at), field("offset of data", &Header::data_at),
      from_byte<360>(), field("sector size", &Header::sector), from_byte<368>(),
      field("disk size", &Header::disk_size), field("block size", &Header::block_size),
      field("block extra data", &Header::block_extra), field("blocks", &Header::blocks),
      field("allocated blocks", &Header::allocated), field("id", &Header::id),
      field("id of the last change", &Header::changed_id), field("parent's id", &Header::parent_id),
      field("id of the parent's last change", &Header::parent_changed_id));
};
enum Type : std::uint32_t { dynamic_image = 1, fixed_image = 2, undo_image = 3, difference_image = 4 };
constexpr std::string_view kTypes[] = {"", "dynamic", "fixed", "undo", "difference"};

class VdiSource final : public MappedSource {
 public:
  VdiSource(const SourcePtr& file, const Header& header, SourcePtr parent)
      : MappedSource(file, header.disk_size, std::move(parent)), map_(make_cached(file)), header_(header) {}

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t index = offset / header_.block_size, within = offset % header_.block_size;
    std::uint64_t left = header_.block_size - within;
    if (index >= header_.blocks) return {MappedRun::From::parent, size() - offset};
    Bytes raw = read_exactly(*map_, header_.blocks_at + index * 4, 4, "VDI block map");
    std::uint32_t block = load_little<std::uint32_t>(raw.data());
    if (block == kAbsent) return {MappedRun::From::parent, left};
    if (block == kZeros) return {MappedRun::From::zeros, left};
    if (block >= header_.blocks)
      throw Malformed(fmt::format("VDI block map at offset {}: expected a block below {}, found {}",
                                  header_.blocks_at + index * 4, header_.blocks, block));
    std::uint64_t step = std::uint64_t{header_.block_size} + header_.block_extra;
    return {MappedRun::From::stored, left, header_.data_at + block * step + header_.block_extra + within};
  }

 private:
  SourcePtr map_;
  Header header_;
};

Header read_header(ByteView raw) {
  if (raw.size() < size_on_disk<Header>) throw CutShort("VDI header: the image is cut short");
  Header header = read_structure<Header>(raw.data());
  auto refuse = [](auto member, std::string_view expected, std::uint64_t found) {
    refuse_field("VDI header", 0, member, expected, fmt::format("{}", found));
  };
  if (header.signature != kSignature) throw Malformed("VDI header: the signature is missing");
  if (header.version != kVersion)
    throw Unsupported(fmt::format("VDI version {}.{}", header.version >> 16, header.version & 0xFFFF));
  if (header.type < dynamic_image || header.type > difference_image)
    refuse(&Header::type, "1 to 4", header.type);
  if (header.block_size == 0 || header.block_size % 512 != 0)
    refuse(&Header::block_size, "a multiple of 512", header.block_size);
  if (header.disk_size > std::uint64_t{header.blocks} * header.block_size)
    refuse(&Header::disk_size, fmt::format("what {} blocks of {} hold", header.blocks, header.block_size),
           header.disk_size);
  return header;
}

Match recognise_vdi(Probe& probe) {
  ByteView head = probe.head(kSignatureAt + 4);
  return head.size() == kSignatureAt + 4 &&
                 load_little<std::uint32_t>(head.data() + kSignatureAt) == kSignature
             ? Match::front
             : Match::none;
}

bool is_written(const std::array<Byte, 16>& id) {
  return std::any_of(id.begin(), id.end(), [](Byte b) { return b != 0; });
}

ContainerPtr open_vdi(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Header header = read_header(read_up_to(*file, 0, size_on_disk<Header>));
  DiskImage image;
  image.facts = {{"kind", std::string(kTypes[header.type])},
                 {"block", fmt::format("{} bytes", header.block_size)}};
  // a difference names its parent by both ids; that of the last change tells its state
  if (is_written(header.changed_id)) image.facts.emplace_back(kIdFact, guid_text(header.changed_id));
  if (is_written(header.id)) image.facts.emplace_back(kIdFact, guid_text(header.id));
  std::string_view comment = as_text(header.comment);
  if (comment = until_zero(comment); !comment.empty()) image.facts.emplace_back("comment", escape(comment));
  SourcePtr parent;
  if (header.type == difference_image || header.type == undo_image || is_written(header.parent_id)) {
    image.facts.emplace_back("parent", guid_text(header.parent_id));
    ParentImage wanted{"", {guid_text(header.parent_changed_id)}, {guid_text(header.parent_id)}};
    parent = open_parent(input, context, wanted, image.findings);
  }
  image.bytes = std::make_shared<VdiSource>(file, header, std::move(parent));
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format vdi_format() {
  return {.id = "vdi",
          .name = "VDI disk image",
          .family = "disk image",
          .specification = "VDI image format, version 1.1",
          .reads = "dynamic, fixed, undo and differencing images; the parent is found beside it by its id",
          .lacks = "images of versions before 1.1",
          .suffixes = {".vdi"},
          .single_stream = true,
          .recognise = recognise_vdi,
          .open = open_vdi,
          .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
