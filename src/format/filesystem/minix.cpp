// The MINIX file system, versions 1 to 3, in either byte order: after the file system chapter of A. Tanenbaum
// and A. Woodhull, "Operating Systems: Design and Implementation" (1st to 3rd edition), and the structures
// that the Linux kernel publishes (include/uapi/linux/minix_fs.h).
//
// Block 0 is the boot block, then come the superblock, the maps of inodes and zones, the inodes, the zones. A
// zone is 2^s_log_zone_size blocks. An inode has seven zones, one zone of zone numbers, one of such, and from
// version 2 on a third level. A folder is a file of records: inode number, then the name filled up with
// zeros.
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint64_t kSuperAt = 1024, kOldBlockSize = 1024, kRootInode = 1;
constexpr std::size_t kDirectZones = 7;
constexpr std::uint64_t kLargestFolder = 64 << 20;  // bytes

/// struct minix_super_block, of versions 1 and 2.
struct OldSuper {
  std::uint16_t ninodes = 0, nzones = 0, imap_blocks = 0, zmap_blocks = 0, firstdatazone = 0,
                log_zone_size = 0;
  std::uint32_t max_size = 0, zones = 0;
  std::uint16_t magic = 0, state = 0;
  static constexpr auto layout = little_endian(
      field("s_ninodes", &OldSuper::ninodes), field("s_nzones", &OldSuper::nzones),
      field("s_imap_blocks", &OldSuper::imap_blocks), field("s_zmap_blocks", &OldSuper::zmap_blocks),
      field("s_firstdatazone", &OldSuper::firstdatazone), field("s_log_zone_size", &OldSuper::log_zone_size),
      field("s_max_size", &OldSuper::max_size), field("s_magic", &OldSuper::magic),
      field("s_state", &OldSuper::state), field("s_zones", &OldSuper::zones));
};

/// struct minix3_super_block.
struct NewSuper {
  std::uint32_t ninodes = 0;
  std::uint16_t imap_blocks = 0, zmap_blocks = 0, firstdatazone = 0, log_zone_size = 0;
  std::uint32_t max_size = 0, zones = 0;
  std::uint16_t magic = 0, blocksize = 0;
  static constexpr auto layout = little_endian(
      field("s_ninodes", &NewSuper::ninodes), from_byte<6>(), field("s_imap_blocks", &NewSuper::imap_blocks),
      field("s_zmap_blocks", &NewSuper::zmap_blocks), field("s_firstdatazone", &NewSuper::firstdatazone),
      field("s_log_zone_size", &NewSuper::log_zone_size), from_byte<16>(),
      field("s_max_size", &NewSuper::max_size), field("s_zones", &NewSuper::zones),
      field("s_magic", &NewSuper::magic), from_byte<28>(), field("s_blocksize", &NewSuper::blocksize));
};

/// struct minix_inode, but its zones: nine of 16 bits.
struct OldInode {
  std::uint16_t mode = 0, uid = 0;
  std::uint32_t size = 0, time = 0;
  std::uint8_t gid = 0, nlinks = 0;
  static constexpr std::size_t zones_at = 14, size_with_zones = 32;
  static constexpr auto layout = little_endian(
      field("i_mode", &OldInode::mode), field("i_uid", &OldInode::uid), field("i_size", &OldInode::size),
      field("i_time", &OldInode::time), field("i_gid", &OldInode::gid), field("i_nlinks", &OldInode::nlinks));
};

/// struct minix2_inode, but its zones: ten of 32 bits.
struct NewInode {
  std::uint16_t mode = 0, nlinks = 0, uid = 0, gid = 0;
  std::uint32_t size = 0, atime = 0, mtime = 0, ctime = 0;
  static constexpr std::size_t zones_at = 24, size_with_zones = 64;
  static constexpr auto layout = little_endian(
      field("i_mode", &NewInode::mode), field("i_nlinks", &NewInode::nlinks), field("i_uid", &NewInode::uid),
      field("i_gid", &NewInode::gid), field("i_size", &NewInode::size), field("i_atime", &NewInode::atime),
      field("i_mtime", &NewInode::mtime), field("i_ctime", &NewInode::ctime));
};

/// What the superblock of any version says.
struct Shape {
  unsigned version = 0;
  std::endian order = std::endian::little;
  std::size_t name_size = 0;  ///< bytes in a folder's record
  std::uint64_t inodes = 0, zones = 0, first_zone = 0, block = kOldBlockSize, zone = 0, inodes_at = 0;
  bool clean = true;

  std::size_t inode_size() const {
    return version == 1 ? OldInode::size_with_zones : NewInode::size_with_zones;
  }
  std::size_t number_size() const { return version == 3 ? 4 : 2; }  ///< of an inode in a folder's record
  std::size_t pointer_size() const { return version == 1 ? 2 : 4; }
};

struct Magic {
  std::uint16_t value;
  unsigned version;
  std::size_t name_size;
};
constexpr Magic kMagics[] = {{0x137F, 1, 14}, {0x138F, 1, 30}, {0x2468, 2, 14}, {0x2478, 2, 30}};
constexpr Magic kNewMagic = {0x4D5A, 3, 60};

void set_places(Shape& shape, std::uint64_t map_blocks, unsigned log_zone_size) {
  constexpr unsigned kMostLog = 10;
  if (log_zone_size > kMostLog)
    throw Malformed(fmt::format("MINIX superblock: expected s_log_zone_size to be at most {}, found {}",
                                kMostLog, log_zone_size));
  shape.zone = shape.block << log_zone_size;
  shape.inodes_at = (2 + map_blocks) * shape.block;
  std::uint64_t table_end = shape.inodes_at + shape.inodes * shape.inode_size();
  if (shape.inodes == 0 || shape.zones <= shape.first_zone || shape.first_zone * shape.zone < table_end)
    throw Malformed(fmt::format(
        "MINIX superblock: expected the first of {} zones behind the inodes (offset {}), found {}",
        shape.zones, table_end, shape.first_zone * shape.zone));
  std::uint64_t mapped = map_blocks * shape.block * 8;  // a bit for each inode and each zone
  if (mapped < shape.inodes + 1 + shape.zones - shape.first_zone)
    throw Malformed(fmt::format("MINIX superblock: expected maps of {} bits or more, found {}",
                                shape.inodes + shape.zones, mapped));
}

std::optional<Shape> read_old(ByteView raw, std::endian order) {
  OldSuper super = read_structure<OldSuper>(raw.data(), order);
  const auto* magic = std::find_if(std::begin(kMagics), std::end(kMagics),
                                   [&](const Magic& one) { return one.value == super.magic; });
  if (magic == std::end(kMagics)) return std::nullopt;
  Shape shape{.version = magic->version, .order = order, .name_size = magic->name_size};
  shape.inodes = super.ninodes;
  shape.zones = magic->version == 1 ? super.nzones : super.zones;
  shape.first_zone = super.firstdatazone;
  shape.clean = (super.state & 1) != 0;
  set_places(shape, std::uint64_t{super.imap_blocks} + super.zmap_blocks, super.log_zone_size);
  return shape;
}

std::optional<Shape> read_new(ByteView raw, std::endian order) {
  NewSuper super = read_structure<NewSuper>(raw.data(), order);
  if (super.magic != kNewMagic.value) return std::nullopt;
  Shape shape{.version = kNewMagic.version, .order = order, .name_size = kNewMagic.name_size};
  if (super.blocksize < 1024 || super.blocksize % 1024 != 0)
    throw Malformed(fmt::format("MINIX superblock: expected s_blocksize to be a multiple of 1024, found {}",
                                super.blocksize));
  shape.block = super.blocksize;
  shape.inodes = super.ninodes;
  shape.zones = super.zones;
  shape.first_zone = super.firstdatazone;
  set_places(shape, std::uint64_t{super.imap_blocks} + super.zmap_blocks, super.log_zone_size);
  return shape;
}

/// Nothing where the 1,024 bytes have no magic; throws Malformed where the rest makes no sense.
std::optional<Shape> read_super(ByteView raw) {
  for (std::endian order : {std::endian::little, std::endian::big}) {
    if (auto shape = read_old(raw, order)) return shape;
    if (auto shape = read_new(raw, order)) return shape;
  }
  return std::nullopt;
}

struct Inode {
  std::uint64_t number = 0, size = 0;
  std::uint32_t mode = 0, uid = 0, gid = 0, links = 0;
  Timestamp modified, accessed, changed, created;
  std::vector<std::uint64_t> zones;
};

class MinixContainer final : public FileTree {
 public:
  MinixContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    auto shape = read_super(read_exactly(*meta_, kSuperAt, 1024, "MINIX superblock"));
    if (!shape) throw Malformed("MINIX superblock: the magic is missing");
    shape_ = *shape;
    compare_sizes(*this, image_->size(), shape_.zones * shape_.zone);
    if (!shape_.clean)
      add_finding(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
  }

  Facts facts() override {
    return {{"version", fmt::format("{}", shape_.version)},
            {"byte order", shape_.order == std::endian::big ? "big-endian" : "little-endian"},
            {"names", fmt::format("up to {} bytes", shape_.name_size)},
            {"capacity", size_fact(shape_.zones * shape_.zone)},
            {"block", fmt::format("{} bytes", shape_.block)}};
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    require_folder(inode, folder.a, inode.size, kLargestFolder);
    Bytes records = read_up_to(*data_of(inode), 0, inode.size);
    std::size_t step = shape_.number_size() + shape_.name_size;
    for (std::size_t at = 0; at + step <= records.size(); at += step) {
      std::uint64_t number = load_number(records.data() + at, shape_.number_size(), shape_.order);
      if (number == 0) continue;
      std::string_view name =
          until_zero(as_text(ByteView(records).subspan(at + shape_.number_size(), shape_.name_size)));
      if (name == "." || name == "..") continue;
      TreeItem item;
      item.entry.path = std::string(name);
      item.ref = {number};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, read_inode(number)); });
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return make_content(data_of(read_inode(ref.a))); }

 private:
  Inode read_inode(std::uint64_t number) const {
    if (number == 0 || number > shape_.inodes)
      throw Malformed(fmt::format("inode {} is not one of the file system's {}", number, shape_.inodes));
    std::uint64_t at = shape_.inodes_at + (number - 1) * shape_.inode_size();
    Bytes raw = read_exactly(*meta_, at, shape_.inode_size(), "MINIX inode");
    Inode out;
    out.number = number;
    std::size_t zones_at = OldInode::zones_at;
    if (shape_.version == 1) {
      OldInode old = read_structure<OldInode>(raw.data(), shape_.order);
      out.mode = old.mode;
      out.uid = old.uid;
      out.gid = old.gid;
      out.links = old.nlinks;
      out.size = old.size;
      out.modified = from_unix(old.time);
    } else {
      NewInode own = read_structure<NewInode>(raw.data(), shape_.order);
      out.mode = own.mode;
      out.uid = own.uid;
      out.gid = own.gid;
      out.links = own.nlinks;
      out.size = own.size;
      out.modified = from_unix(own.mtime);
      out.accessed = from_unix(own.atime);
      out.changed = from_unix(own.ctime);
      zones_at = NewInode::zones_at;
    }
    out.zones = pointers_in(ByteView(raw).subspan(zones_at), shape_.pointer_size(), shape_.order);
    return out;
  }

  SourcePtr data_of(const Inode& inode) const {
    IndirectBlocks blocks;
    auto split = inode.zones.begin() + kDirectZones;
    blocks.direct.assign(inode.zones.begin(), split);
    blocks.indirect.assign(split, inode.zones.end());
    blocks.block_size = shape_.zone;
    // of a zone of pointers only the first block is used
    blocks.pointers_in_block = shape_.block / shape_.pointer_size();
    blocks.place = [this](std::uint64_t zone) {
      if (zone < shape_.first_zone || zone >= shape_.zones)
        throw Malformed(fmt::format("zone {} is not one of {} to {}", zone, shape_.first_zone, shape_.zones));
      return zone * shape_.zone;
    };
    blocks.read = [this](std::uint64_t at) {
      return pointers_in(read_exactly(*meta_, at, shape_.block, "MINIX zone numbers"), shape_.pointer_size(),
                         shape_.order);
    };
    return make_extent_source(image_, extents_of(blocks, inode.size), inode.size);
  }

  void fill(TreeItem& item, const Inode& inode) const {
    fill_old_inode(item, inode, inode.zones[0], [&] { return data_of(inode); });
  }

  SourcePtr image_, meta_;
  Shape shape_;
};

Match recognise_minix(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, 1024);
  if (raw.size() < 1024) return Match::none;
  try {
    auto shape = read_super(raw);
    if (!shape || (probe.size() && *probe.size() < shape->inodes_at)) return Match::none;
    // two bytes are no proof: the root must be a folder
    Bytes root = probe.at(shape->inodes_at, 2);
    if (root.size() < 2) return Match::none;
    auto mode = static_cast<std::uint32_t>(load_number(root.data(), root.size(), shape->order));
    return kind_of_mode(mode) == EntryKind::folder ? Match::front : Match::none;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_minix(const Input& input, OpenContext& context) {
  return std::make_shared<MinixContainer>(random_access(*input.content, context.spool), context);
}

PlacedFields shown_super(Probe& probe) {
  auto shape = read_super(probe.at(kSuperAt, 1024));
  if (!shape) return {};
  return shape->version == 3 ? fields_at<NewSuper>(probe, kSuperAt, shape->order)
                             : fields_at<OldSuper>(probe, kSuperAt, shape->order);
}

}  // namespace

Format minix_format() {
  return {.id = "minix",
          .name = "MINIX file system",
          .family = "file system",
          .specification =
              "Tanenbaum and Woodhull, Operating Systems: Design and Implementation; Linux minix_fs.h",
          .reads =
              "versions 1, 2 and 3 in both byte orders, names of 14, 30 and 60 bytes, zones of several "
              "blocks, all entry kinds, holes",
          .lacks = "",
          .suffixes = {".minix"},
          .recognise = recognise_minix,
          .open = open_minix,
          .records = {{"superblock", shown_super}}};
}

}  // namespace operculum
