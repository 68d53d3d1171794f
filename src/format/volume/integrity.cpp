#include "format/volume/integrity.h"

#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <functional>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/numbers.h"
#include "base/structure.h"
#include "base/text.h"
#include "cipher/key_derivation.h"
#include "container/record_fields.h"
#include "io/aligned_source.h"

namespace operculum::integrity {
namespace {

constexpr std::uint64_t kSector = 512;

struct Superblock {
  std::array<Byte, 8> magic{};
  std::uint8_t version = 0, log2_interleave_sectors = 0;
  std::uint16_t integrity_tag_size = 0;
  std::uint32_t journal_sections = 0;
  std::uint64_t provided_data_sectors = 0;
  std::uint32_t flags = 0;
  std::uint8_t log2_sectors_per_block = 0;
  std::array<Byte, 16> salt{};
  static constexpr std::uint32_t journal_mac = 1, recalculating = 2, dirty_bitmap = 4, fixed_padding = 8,
                                 fixed_hmac = 16;
  static constexpr auto layout = little_endian(
      field("magic", &Superblock::magic), field("version", &Superblock::version),
      field("log2_interleave_sectors", &Superblock::log2_interleave_sectors),
      field("integrity_tag_size", &Superblock::integrity_tag_size),
      field("journal_sections", &Superblock::journal_sections),
      field("provided_data_sectors", &Superblock::provided_data_sectors), field("flags", &Superblock::flags),
      field("log2_sectors_per_block", &Superblock::log2_sectors_per_block), from_byte<48>(),
      field("salt", &Superblock::salt));
};

std::uint64_t round_up(std::uint64_t value, std::uint64_t step) {
  return (value + step - 1) / step * step;
}

/// In sectors: a section holds eight blocks of entries, then the blocks that these are of.
std::uint64_t section_size(const Superblock& super) {
  constexpr std::uint64_t kCommitId = 8, kMac = 8, kPlace = 8, kEntryStep = 8, kBlockSectors = 8;
  std::uint64_t per_block = std::uint64_t{1} << super.log2_sectors_per_block;
  std::uint64_t entry = round_up(kPlace + kCommitId * per_block + super.integrity_tag_size, kEntryStep);
  std::uint64_t room = kSector - kCommitId - ((super.flags & Superblock::journal_mac) != 0 ? kMac : 0);
  return (room / entry * kBlockSectors << super.log2_sectors_per_block) + kBlockSectors;
}

/// A sum that tags may be, as the kernel's crypto has it.
struct TagKind {
  std::string_view name;
  std::size_t size;  ///< bytes
  Bytes (*of)(ByteView bytes);
};

Bytes number_tag(std::uint64_t value, std::size_t width) {
  Bytes out(width);
  store_number(out.data(), width, value);
  return out;
}
Bytes digest_tag(const char* name, ByteView bytes) {
  Secret digest = hash_of(name, bytes);
  return Bytes(digest.view().begin(), digest.view().end());
}

/// Of several of one size the usual one first.
constexpr TagKind kKinds[] = {
    {"crc32c", 4, [](ByteView bytes) { return number_tag(~crc32c(UINT32_MAX, bytes), 4); }},
    {"crc32", 4, [](ByteView bytes) { return number_tag(crc32_plain(0, bytes), 4); }},
    {"xxhash64", 8, [](ByteView bytes) { return number_tag(XXH64(bytes.data(), bytes.size(), 0), 8); }},
    {"sha1", 20, [](ByteView bytes) { return digest_tag("sha1", bytes); }},
    {"sha256", 32, [](ByteView bytes) { return digest_tag("sha256", bytes); }},
    {"sha512", 64, [](ByteView bytes) { return digest_tag("sha512", bytes); }},
};

/// The tag of a block: of a salt, the number of its first sector, and its bytes.
Bytes tag_of(const TagKind& kind, const Layout& layout, std::uint64_t offset, ByteView block) {
  constexpr std::size_t kNumber = 8;
  Bytes all = layout.salted ? layout.salt : Bytes();
  append_number(all, kNumber, offset / kSector);
  all.insert(all.end(), block.begin(), block.end());
  return kind.of(all);
}

/// Blocks that are compared with their tags, and perhaps decrypted, when they are read.
class TaggedSource final : public AlignedSource {
 public:
  /// False when the tag does not fit.
  using Open = std::function<bool(std::uint64_t offset, ByteView tag, ByteSpan block)>;

  TaggedSource(SourcePtr file, Layout layout, Open open)
      : AlignedSource(layout.block, kMost),
        file_(std::move(file)),
        layout_(std::move(layout)),
        open_(std::move(open)) {}

  std::uint64_t size() const override { return layout_.size; }

 protected:
  void read_units(std::uint64_t offset, ByteSpan out) const override {
    for (std::size_t done = 0; done < out.size();) {
      std::uint64_t at = offset + done;
      std::size_t count = static_cast<std::size_t>(
          std::min<std::uint64_t>(out.size() - done, layout_.area - at % layout_.area));
      read_in_area(at, out.subspan(done, count));
      done += count;
    }
  }

 private:
  static constexpr std::size_t kMost = 256;

  void read_in_area(std::uint64_t offset, ByteSpan out) const {
    if (file_->read_at(layout_.data_at(offset), out) < out.size())
      throw CutShort("the data with integrity tags is cut short");
    if (!open_) return;
    Bytes tags = read_exactly(*file_, layout_.tag_at(offset), out.size() / layout_.block * layout_.tag_size,
                              "integrity tags");
    for (std::size_t at = 0, tag = 0; at < out.size(); at += layout_.block, tag += layout_.tag_size)
      if (!open_(offset + at, ByteView(tags).subspan(tag, layout_.tag_size), out.subspan(at, layout_.block)))
        throw Malformed(fmt::format("the block at offset {} does not fit its integrity tag", offset + at));
  }

  SourcePtr file_;
  Layout layout_;
  Open open_;
};

}  // namespace

std::uint64_t Layout::data_at(std::uint64_t offset) const {
  std::uint64_t number = offset / area;
  return begin + number * (area + tags) + tags + offset % area;
}

std::uint64_t Layout::tag_at(std::uint64_t offset) const {
  std::uint64_t number = offset / area;
  return begin + number * (area + tags) + offset % area / block * tag_size;
}

Layout read_layout(const Source& file, std::uint64_t at) {
  auto super = read_structure<Superblock>(
      read_exactly(file, at, size_on_disk<Superblock>, "dm-integrity superblock").data());
  if (as_text(super.magic) != kMark)
    throw Malformed(fmt::format("dm-integrity superblock at offset {}: the mark is missing", at));
  constexpr unsigned kNewest = 5, kMostLog = 31, kMostBlockLog = 3;
  if (super.version == 0 || super.version > kNewest)
    throw Unsupported(fmt::format("dm-integrity of version {}", super.version));
  if (super.log2_interleave_sectors == 0) throw Unsupported("dm-integrity with its tags on another device");
  if (super.log2_interleave_sectors > kMostLog || super.log2_sectors_per_block > kMostBlockLog ||
      super.log2_sectors_per_block > super.log2_interleave_sectors)
    throw Malformed(fmt::format(
        "dm-integrity superblock at offset {}: areas of 2^{} sectors in blocks of 2^{} are not possible", at,
        super.log2_interleave_sectors, super.log2_sectors_per_block));
  constexpr std::uint16_t kLargestTag = 256;
  if (super.integrity_tag_size == 0 || super.integrity_tag_size > kLargestTag)
    refuse_field("dm-integrity superblock", at, &Superblock::integrity_tag_size, "1 to 256",
                 fmt::format("{}", super.integrity_tag_size));
  constexpr std::uint64_t kSuperSectors = 8, kPadding = 8;
  Layout out;
  out.version = super.version;
  out.tag_size = super.integrity_tag_size;
  out.block = kSector << super.log2_sectors_per_block;
  out.size = checked_mul(super.provided_data_sectors, kSector, "the size of the data");
  out.area = kSector << super.log2_interleave_sectors;
  std::uint64_t padding =
      (super.flags & Superblock::fixed_padding) != 0 ? kPadding * kSector : kSector << kPadding;
  out.tags = round_up((out.area / out.block) * out.tag_size, padding);
  out.begin = at + (kSuperSectors + section_size(super) * super.journal_sections) * kSector;
  out.dirty = (super.flags & (Superblock::dirty_bitmap | Superblock::recalculating)) != 0;
  out.salted = (super.flags & Superblock::fixed_hmac) != 0;
  out.salt.assign(super.salt.begin(), super.salt.end());
  return out;
}

std::optional<std::string> find_checksum(const Source& file, const Layout& layout) {
  constexpr std::uint64_t kTried = 8;
  for (const TagKind& kind : kKinds) {
    if (kind.size != layout.tag_size) continue;
    for (std::uint64_t i = 0; i < kTried && (i + 1) * layout.block <= layout.size; ++i) {
      std::uint64_t offset = i * layout.block;
      Bytes block = read_up_to(file, layout.data_at(offset), layout.block),
            tag = read_up_to(file, layout.tag_at(offset), layout.tag_size);
      if (block.size() == layout.block && tag_of(kind, layout, offset, block) == tag)
        return std::string(kind.name);
    }
  }
  return std::nullopt;
}

SourcePtr make_data(SourcePtr file, const Layout& layout, const std::optional<std::string>& checksum) {
  const auto* kind = std::find_if(std::begin(kKinds), std::end(kKinds),
                                  [&](const TagKind& one) { return checksum && one.name == *checksum; });
  TaggedSource::Open open;
  if (kind != std::end(kKinds))
    open = [kind, layout](std::uint64_t offset, ByteView tag, ByteSpan block) {
      return std::ranges::equal(tag_of(*kind, layout, offset, block), tag);
    };
  return std::make_shared<TaggedSource>(std::move(file), layout, std::move(open));
}

SourcePtr make_opened(SourcePtr file, const Layout& layout, std::shared_ptr<const SealedSectors> cipher,
                      std::uint64_t first_sector) {
  if (cipher->tag_size() != layout.tag_size)
    throw Malformed(fmt::format("dm-integrity superblock: expected tags of {} bytes, found {}",
                                cipher->tag_size(), layout.tag_size));
  return std::make_shared<TaggedSource>(
      std::move(file), layout,
      [cipher = std::move(cipher), first_sector](std::uint64_t offset, ByteView tag, ByteSpan block) {
        return cipher->open(first_sector + offset / kSector, tag, block);
      });
}

KnownRecord known_superblock() {
  return record_at<Superblock>("superblock", 0);
}

}  // namespace operculum::integrity
