// SPIFFS (its technical specification, TECH_SPEC of version 0.3): blocks of flash are cut into small pages.
// The first pages of each block, the object lookup, say of which object each other page is; a page's own
// header says which piece of it, and whether it still counts. An object has index pages, the first with its
// size and its name, and data pages. There are no folders: names hold slashes. Pages, blocks and the length
// of names are what the makers of a device chose, and are stated nowhere: they are found by what fits.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "base/units.h"
#include "container/probe_reader.h"
#include "format/firmware/firmware_parts.h"
#include "format/flash/formats.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

/// In front of every page that is not of the lookup.
struct PageHead {
  std::uint16_t obj_id = 0, span_ix = 0;
  Byte flags = 0;
  static constexpr auto layout =
      little_endian(field("obj_id", &PageHead::obj_id), field("span_ix", &PageHead::span_ix),
                    field("flags", &PageHead::flags));
};
constexpr std::size_t kPageHead = size_on_disk<PageHead>;

/// Behind it, aligned, in an object's first index page; the name follows.
struct IndexHead {
  std::uint32_t size = 0;
  Byte type = 0;
  static constexpr auto layout =
      little_endian(field("size", &IndexHead::size), field("type", &IndexHead::type));
};
constexpr std::size_t kIndexHeadAt = 8, kNameAt = kIndexHeadAt + size_on_disk<IndexHead>;
constexpr std::size_t kMostName = 255, kLookupEntry = 2, kMagicFromEnd = 4;

// Flags are bits that were cleared.
constexpr Byte kUsed = 0x01, kFinal = 0x02, kIndex = 0x04, kIndexDeleted = 0x40, kDeleted = 0x80;
constexpr std::uint16_t kFreePage = 0xFFFF, kDeletedPage = 0, kIndexId = 0x8000;
constexpr std::uint32_t kMagic = 0x20140529, kNoSize = 0xFFFFFFFF;
constexpr std::uint32_t kPageSizes[] = {256, 128, 512, 1024, 2048, 64};
constexpr std::uint32_t kBlockSizes[] = {4096, 8192, 16384, 32768, 65536, 131072, 262144};

/// How an image is cut up; sizes are bytes.
struct Shape {
  std::uint32_t page = 0, block = 0;
  std::uint64_t blocks = 0;

  std::uint32_t pages() const { return block / page; }  ///< of a block
  std::uint32_t lookup_pages() const {
    return std::max<std::uint32_t>(1, pages() * static_cast<std::uint32_t>(kLookupEntry) / page);
  }
  std::uint64_t page_at(std::uint64_t block_number, std::uint32_t entry) const {
    return block_number * block + std::uint64_t{lookup_pages() + entry} * page;
  }
};

using ReadAt = std::function<Bytes(std::uint64_t at, std::size_t count)>;

std::uint16_t word_at(ByteView bytes, std::size_t at) {
  return load_little<std::uint16_t>(bytes.data() + at);
}

/// How many blocks a block's magic speaks of, which it may not state; nothing where it is none.
std::optional<std::uint64_t> told_blocks(const Shape& shape, std::uint64_t number, ByteView lookup) {
  auto plain = static_cast<std::uint16_t>(kMagic ^ shape.page);
  std::uint16_t magic = word_at(lookup, std::size_t{shape.lookup_pages()} * shape.page - kMagicFromEnd);
  if (magic == plain) return shape.blocks;
  std::uint64_t left = static_cast<std::uint16_t>(magic ^ plain);
  constexpr std::uint64_t kMostCut = 2;  // an image is there to its half, at least
  return number + left <= kMostCut * shape.blocks ? std::optional(number + left) : std::nullopt;
}

/// Counts what speaks for a shape, in numbers of 16 bits that chance would have to hit: magics of blocks, and
/// pages that are of the object that the lookup names. 0 where something speaks against it.
unsigned evidence(Shape& shape, const ReadAt& read) {
  constexpr std::uint64_t kBlocksLookedAt = 6;
  constexpr unsigned kPagesLookedAt = 24;
  unsigned found = 0, pages = 0;
  const std::uint64_t room = shape.blocks;
  std::optional<std::uint64_t> told;
  std::set<std::pair<std::uint16_t, std::uint16_t>> seen;
  for (std::uint64_t number = 0; number < std::min(room, kBlocksLookedAt); ++number) {
    Bytes lookup = read(number * shape.block, std::size_t{shape.lookup_pages()} * shape.page);
    if (lookup.size() < std::size_t{shape.lookup_pages()} * shape.page) break;
    auto blocks = told_blocks(shape, number, lookup);
    if (number == 0) told = blocks;
    if (blocks != told) return 0;
    if (blocks) ++found;
    for (std::uint32_t entry = 0; entry + shape.lookup_pages() < shape.pages(); ++entry) {
      std::uint16_t id = word_at(lookup, entry * kLookupEntry);
      if (id == kFreePage || id == kDeletedPage || ++pages > kPagesLookedAt) continue;
      Bytes head = read(shape.page_at(number, entry), kPageHead);
      if (head.size() < kPageHead) continue;  // cut short, or beyond what may be looked at
      auto page = read_structure<PageHead>(head.data());
      if (page.obj_id == kFreePage) continue;  // named, and not written before the power went
      bool is_index = (page.flags & kIndex) == 0, of_index = (id & kIndexId) != 0;
      if (page.obj_id != id || is_index != of_index) return 0;
      if (seen.emplace(page.obj_id, page.span_ix).second) ++found;  // what repeats itself proves nothing
    }
    if (told && *told <= number + 1) break;
  }
  if (told) shape.blocks = *told;
  return found;
}

/// The shape that most speaks for; nothing where chance could have made it.
std::optional<Shape> shape_of(std::uint64_t size, const ReadAt& read) {
  constexpr unsigned kEnough = 3;
  std::optional<Shape> best;
  unsigned most = kEnough - 1;
  for (std::uint32_t page : kPageSizes) {
    for (std::uint32_t block : kBlockSizes) {
      Shape shape{page, block, size / block};
      constexpr std::uint64_t kMostPages = 65536;  // their numbers have 16 bits
      if (block / page < 8 || shape.blocks < 2 || shape.blocks * shape.pages() > kMostPages) continue;
      unsigned found = evidence(shape, read);
      if (found > most) {
        most = found;
        best = shape;
      }
    }
  }
  return best;
}

struct Object {
  std::string name;
  std::uint32_t size = kNoSize;
  bool named = false;
  std::uint64_t index_at = 0;
  std::map<std::uint32_t, std::uint64_t> pages;  ///< data pages by span: where they lie
};

/// Reads all pages, and what belongs together.
class Reader {
 public:
  Reader(SourcePtr image, const Shape& shape) : image_(std::move(image)), shape_(shape) {}

  Firmware read() {
    for (std::uint64_t number = 0; number < shape_.blocks; ++number) read_block(number);
    Firmware out;
    out.facts = {{"page", size_text(shape_.page)},
                 {"erase block", size_text(shape_.block)},
                 {"blocks", grouped(shape_.blocks)},
                 {"free", size_text(std::uint64_t{free_} * shape_.page)}};
    for (auto& [id, object] : objects_) {
      if (object.named) {
        out.parts.push_back(part_of(object));
      } else {
        ++nameless_;
      }
    }
    if (nameless_ > 0)
      out.note(fmt::format("pages of {} that have no name any more: what a device had not yet taken away",
                           counted(nameless_, "file", "files")));
    if (twice_ > 0)
      out.warn(fmt::format("{} there twice, as after a loss of power; the first of them is taken",
                           counted(twice_, "page is", "pages are")));
    std::uint64_t end = shape_.blocks * shape_.block;
    if (image_->size() < end)
      out.fault(fmt::format("the image is cut short: its blocks cover {} bytes, {} are there", grouped(end),
                            grouped(image_->size())));
    add_what_is_behind(*image_, end, out);
    return out;
  }

 private:
  static std::string size_text(std::uint64_t bytes) {
    return fmt::format("{} bytes ({})", grouped(bytes), human_size(bytes));
  }

  void read_block(std::uint64_t number) {
    Bytes block = read_up_to(*image_, number * shape_.block, shape_.block);
    for (std::uint32_t entry = 0; entry + shape_.lookup_pages() < shape_.pages(); ++entry) {
      std::uint64_t at = shape_.page_at(number, entry) - number * shape_.block;
      if (at + shape_.page > block.size()) return;
      std::uint16_t id = word_at(block, entry * kLookupEntry);
      if (id == kFreePage) ++free_;
      if (id != kFreePage && id != kDeletedPage)
        read_page(ByteView(block).subspan(at, shape_.page), number * shape_.block + at);
    }
  }

  void read_page(ByteView page, std::uint64_t at) {
    auto head = read_structure<PageHead>(page.data());
    auto cleared = [&](Byte flags) { return (head.flags & flags) == 0; };
    if (!cleared(kUsed | kFinal) || cleared(kDeleted)) return;
    Object& object = objects_[static_cast<std::uint16_t>(head.obj_id & ~kIndexId)];
    if ((head.obj_id & kIndexId) == 0) {
      if (!object.pages.emplace(head.span_ix, at).second) ++twice_;
    } else if (cleared(kIndex) && head.span_ix == 0 && !cleared(kIndexDeleted)) {
      if (object.named) ++twice_;
      if (object.named) return;
      auto index = read_structure<IndexHead>(page.data() + kIndexHeadAt);
      object.name =
          field_text(page.subspan(kNameAt, std::min<std::size_t>(kMostName, page.size() - kNameAt)));
      object.size = index.size;
      object.named = true;
      object.index_at = at;
    }
  }

  FirmwarePart part_of(const Object& object) const {
    std::uint64_t room = shape_.page - kPageHead, size = object.size;
    if (object.size == kNoSize) size = object.pages.empty() ? 0 : (object.pages.rbegin()->first + 1) * room;
    std::uint64_t wanted = (size + room - 1) / room;
    std::vector<Extent> extents;
    for (const auto& [span, at] : object.pages) {
      std::uint64_t logical = span * room;
      if (logical < size) extents.push_back({logical, at + kPageHead, std::min(room, size - logical)});
    }
    FirmwarePart part;
    part.path = object.name.substr(std::min(object.name.find_first_not_of('/'), object.name.size()));
    if (part.path.empty()) part.path = "unnamed";
    part.at = object.index_at;
    part.size = Entry::kUnknownSize;  // scattered
    part.unpacked = size;
    if (object.size == kNoSize) part.comment = "its end was not written; as many bytes as have pages";
    add_range(part.scattered, {object.index_at, shape_.page});
    for (const auto& [span, at] : object.pages) add_range(part.scattered, {at, shape_.page});
    std::uint64_t missing = wanted - extents.size();
    part.open = [image = image_, extents, size, missing, wanted]() -> ContentPtr {
      if (missing > 0)
        throw Malformed(
            fmt::format("SPIFFS: {} of the {} pages of this file are not there", missing, wanted));
      return make_content(make_extent_source(image, extents, size));
    };
    return part;
  }

  SourcePtr image_;
  Shape shape_;
  std::map<std::uint16_t, Object> objects_;
  std::uint64_t free_ = 0, nameless_ = 0, twice_ = 0;
};

Match recognise_spiffs(Probe& probe) {
  auto size = probe.size();
  if (!size || probe.head(kLookupEntry).size() < kLookupEntry) return Match::none;
  auto shape = shape_of(*size, reader_of(probe));
  return shape ? Match::inside : Match::none;
}

ContainerPtr open_spiffs(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  auto shape = shape_of(image->size(),
                        [&](std::uint64_t at, std::size_t count) { return read_up_to(*image, at, count); });
  if (!shape) throw Malformed("SPIFFS: pages and blocks of no size fit");
  return make_firmware(image, Reader(image, *shape).read());
}

}  // namespace

Format spiffs_format() {
  return {
      .id = "spiffs",
      .name = "SPIFFS file system",
      .family = "file system",
      .specification = "SPIFFS technical specification, version 0.3",
      .reads =
          "pages of 64 bytes to 2 KiB in blocks of 4 to 256 KiB, with and without magics; files whose end "
          "was not written",
      .lacks = "identifiers of other widths than 16 bits; times, which each maker keeps otherwise",
      .suffixes = {".spiffs"},
      .recognise = recognise_spiffs,
      .open = open_spiffs};
}

}  // namespace operculum
