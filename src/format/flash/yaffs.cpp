// YAFFS2 (its authors' "How YAFFS works", 2012, and the header files yaffs_guts.h and yaffs_packedtags2.h of
// the published source): pages of NAND with tags in their spare bytes, which say of which object and which
// piece of it a page is, and when it was written. Piece 0 is the object's header. The newest page of each
// piece counts.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "base/units.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/flash/formats.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

struct Tags {
  std::uint32_t seq_number = 0, obj_id = 0, chunk_id = 0, n_bytes = 0;
  static constexpr auto layout =
      little_endian(field("seq_number", &Tags::seq_number), field("obj_id", &Tags::obj_id),
                    field("chunk_id", &Tags::chunk_id), field("n_bytes", &Tags::n_bytes));
};
struct Header {
  std::uint32_t type = 0, parent_obj_id = 0;
  std::uint16_t sum_no_longer_used = 0;
  std::array<Byte, 256> name{};
  std::uint32_t yst_mode = 0, yst_uid = 0, yst_gid = 0, yst_atime = 0, yst_mtime = 0, yst_ctime = 0,
                file_size_low = 0, equiv_id = 0;
  std::array<Byte, 160> alias{};
  std::uint32_t yst_rdev = 0;
  static constexpr auto layout = little_endian(
      field("type", &Header::type), field("parent_obj_id", &Header::parent_obj_id),
      field("sum_no_longer_used", &Header::sum_no_longer_used), field("name", &Header::name),
      from_byte<268>(), field("yst_mode", &Header::yst_mode), field("yst_uid", &Header::yst_uid),
      field("yst_gid", &Header::yst_gid), field("yst_atime", &Header::yst_atime),
      field("yst_mtime", &Header::yst_mtime), field("yst_ctime", &Header::yst_ctime),
      field("file_size_low", &Header::file_size_low), field("equiv_id", &Header::equiv_id),
      field("alias", &Header::alias), field("yst_rdev", &Header::yst_rdev));
};
constexpr std::size_t kTags = size_on_disk<Tags>, kHeader = size_on_disk<Header>;

enum Type : std::uint32_t { file = 1, symbolic_link = 2, folder = 3, hard_link = 4, special = 5 };
// Objects whose folder is 3 or 4 were taken away: no way leads there from the root.
constexpr std::uint32_t kRoot = 1, kErased = 0xFFFFFFFF, kNoSum = 0xFFFF;
constexpr std::uint32_t kExtraInfo = 0x80000000, kObjectMask = 0x0FFFFFFF, kMostPieces = 1 << 24;

/// How pages and tags lie in an image.
struct Shape {
  std::uint32_t page = 0, spare = 0, tags_at = 0;  ///< bytes
  bool big = false;
};
constexpr Shape kShapes[] = {{2048, 64},  {4096, 128}, {4096, 224}, {4096, 218}, {4096, 256},
                             {8192, 256}, {8192, 448}, {1024, 32},  {512, 16}};
constexpr std::uint32_t kTagPlaces[] = {0, 2, 1, 4, 8, 30, 32};

template <typename S>
S read_in(bool big, const Byte* bytes) {
  return big ? read_structure<S, std::endian::big>(bytes) : read_structure<S, std::endian::little>(bytes);
}

/// Tags with the extra information of headers taken out of them.
Tags plain(Tags tags) {
  if ((tags.chunk_id & kExtraInfo) == 0 || tags.chunk_id == kErased) return tags;
  tags.chunk_id = 0;
  tags.obj_id &= kObjectMask;
  return tags;
}

bool make_sense(const Tags& tags, std::uint32_t page) {
  bool size = tags.chunk_id == 0 || tags.n_bytes <= page;
  return tags.seq_number >= 1 && tags.seq_number < 0xF0000000 && tags.obj_id >= 1 &&
         tags.obj_id <= kObjectMask && tags.chunk_id < kMostPieces && size;
}

/// The shape in which the first two pages make sense; the first is a header.
std::optional<Shape> shape_of(ByteView front) {
  if (front.size() < kHeader) return std::nullopt;
  for (bool big : {false, true}) {
    auto header = read_in<Header>(big, front.data());
    bool fits = header.type >= file && header.type <= special && header.parent_obj_id >= 1 &&
                header.parent_obj_id <= kObjectMask && header.sum_no_longer_used == kNoSum;
    if (!fits) continue;
    for (Shape shape : kShapes) {
      std::size_t raw = shape.page + shape.spare;
      for (std::uint32_t place : kTagPlaces) {
        if (place + kTags > shape.spare || front.size() < 2 * raw) continue;
        Tags first = plain(read_in<Tags>(big, front.data() + shape.page + place));
        Tags second = plain(read_in<Tags>(big, front.data() + raw + shape.page + place));
        if (!make_sense(first, shape.page) || first.chunk_id != 0) continue;
        if (second.seq_number != kErased && !make_sense(second, shape.page)) continue;
        return Shape{shape.page, shape.spare, place, big};
      }
    }
  }
  return std::nullopt;
}

/// When a page was written: by the number of its block, and within that by its place.
using When = std::pair<std::uint32_t, std::uint64_t>;

struct Piece {
  std::uint64_t at = 0;
  std::uint32_t size = 0;
  When when;
};
struct Object {
  Header header;
  std::optional<When> when;
  std::uint64_t header_at = 0;
  std::map<std::uint32_t, Piece> pieces;  ///< from 1
};

class YaffsContainer final : public FileTree {
 public:
  YaffsContainer(SourcePtr image, const Shape& shape, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), shape_(shape) {
    read_pages();
    for (const auto& [id, object] : objects_) {
      if (object.when && id != kRoot) folders_[object.header.parent_obj_id].push_back(id);
    }
    if (image_->size() % (shape.page + shape.spare) != 0)
      add_finding(Finding::Level::warning, "the image does not end with a whole page: it may be cut short");
  }

  Facts facts() override {
    return {{"page", fmt::format("{} bytes and {} spare", shape_.page, shape_.spare)},
            {"byte order", shape_.big ? "big-endian" : "little-endian"},
            {"objects", grouped(objects_.size())}};
  }

 protected:
  NodeRef root() override { return {kRoot}; }

  void list(NodeRef parent, Detail, const TreeSink& sink) override {
    auto found = folders_.find(static_cast<std::uint32_t>(parent.a));
    if (found == folders_.end()) return;
    for (std::uint32_t id : found->second) row(id, sink);
  }

  ContentPtr open(const Entry& entry, NodeRef ref) override {
    const Object& object = objects_.at(static_cast<std::uint32_t>(ref.a));
    std::vector<Extent> extents;
    for (const auto& [number, piece] : object.pieces) {
      std::uint64_t begin = std::uint64_t{number - 1} * shape_.page;
      if (begin >= entry.size) break;
      extents.push_back({begin, piece.at, std::min<std::uint64_t>(piece.size, entry.size - begin)});
    }
    return make_content(make_extent_source(image_, std::move(extents), entry.size));
  }

 private:
  void read_pages() {
    std::uint64_t raw = std::uint64_t{shape_.page} + shape_.spare;
    for (std::uint64_t at = 0; at + raw <= image_->size(); at += raw) {
      Bytes bytes = read_exactly(*image_, at + shape_.page + shape_.tags_at, kTags, "YAFFS2 tags");
      auto stored = read_in<Tags>(shape_.big, bytes.data());
      if (stored.seq_number == kErased) continue;
      Tags tags = plain(stored);
      if (!make_sense(tags, shape_.page)) {
        ++damaged_;
        continue;
      }
      Object& object = objects_[tags.obj_id];
      When when{tags.seq_number, at};
      if (tags.chunk_id != 0) {
        Piece& piece = object.pieces[tags.chunk_id];
        if (piece.size == 0 || when > piece.when) piece = {at, tags.n_bytes, when};
      } else if (!object.when || when > *object.when) {
        Bytes header = read_exactly(*image_, at, kHeader, "YAFFS2 header");
        object.header = read_in<Header>(shape_.big, header.data());
        object.when = when;
        object.header_at = at;
      }
    }
    if (damaged_ > 0)
      add_finding(
          Finding::Level::warning,
          fmt::format("{} pages have tags that make no sense and were passed over", grouped(damaged_)));
  }

  /// As its header says, unless pages that were written later go further.
  std::uint64_t size_of(const Object& object) const {
    std::uint64_t size = object.header.file_size_low == kErased ? 0 : object.header.file_size_low;
    if (!object.pieces.empty()) {
      const auto& [number, last] = *object.pieces.rbegin();
      if (last.when > *object.when)
        size = std::max(size, std::uint64_t{number - 1} * shape_.page + last.size);
    }
    return size;
  }

  void row(std::uint32_t id, const TreeSink& sink) {
    const Object* object = &objects_.at(id);
    TreeItem item;
    Entry& entry = item.entry;
    std::string_view name = as_text(object->header.name);
    entry.path = until_zero(name);
    item.ref = {id};
    if (object->header.type == hard_link) {
      auto target = objects_.find(object->header.equiv_id);
      if (target == objects_.end() || !target->second.when)
        return add_damaged(std::move(item), "what the hard link is of is missing", sink);
      object = &target->second;
      item.ref = {target->first};
      item.link_id = target->first;
    }
    const Header& header = object->header;
    entry.kind = header.type == folder          ? EntryKind::folder
                 : header.type == symbolic_link ? EntryKind::symbolic_link
                                                : kind_of_mode(header.yst_mode);
    entry.mode = header.yst_mode & 07777;
    entry.modified = from_unix(header.yst_mtime);
    entry.extras().user_id = header.yst_uid;
    entry.extras().group_id = header.yst_gid;
    if (entry.kind == EntryKind::file) {
      entry.size = entry.stored_size = size_of(*object);
      item.link_id = item.ref.a;
    } else if (entry.kind == EntryKind::symbolic_link) {
      std::string_view target = as_text(header.alias);
      entry.extras().link_target = until_zero(target);
    } else if (header.type == special) {
      set_device(entry.extras(), header.yst_rdev);
    }
    sink(std::move(item));
  }

  SourcePtr image_;
  Shape shape_;
  std::map<std::uint32_t, Object> objects_;
  std::map<std::uint32_t, std::vector<std::uint32_t>> folders_;
  std::uint64_t damaged_ = 0;
};

Match recognise_yaffs(Probe& probe) {
  ByteView head = probe.head(kHeader);
  if (head.size() < kHeader || head[8] != 0xFF || head[9] != 0xFF) return Match::none;
  return shape_of(probe.head(32 << 10)) ? Match::front : Match::none;
}

ContainerPtr open_yaffs(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  auto shape = shape_of(read_up_to(*image, 0, 32 << 10));
  if (!shape) throw Malformed("YAFFS2: its first pages do not make sense in any usual layout of spare bytes");
  return std::make_shared<YaffsContainer>(std::move(image), *shape, context);
}

}  // namespace

Format yaffs_format() {
  return {.id = "yaffs2",
          .name = "YAFFS2 file system",
          .family = "file system",
          .specification = "\"How YAFFS works\" (2012); yaffs_guts.h, yaffs_packedtags2.h",
          .reads =
              "usual layouts of pages and spare bytes, both byte orders, all kinds of objects, hard links; "
              "the newest "
              "page of each piece",
          .lacks = "YAFFS1, tags within the page, checkpoints (they are not needed)",
          .suffixes = {".yaffs", ".yaffs2"},
          .recognise = recognise_yaffs,
          .open = open_yaffs};
}

}  // namespace operculum
