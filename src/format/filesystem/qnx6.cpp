// The QNX 6 file system ("power-safe"), after the structures that the Linux kernel publishes
// (include/uapi/linux/qnx6_fs.h), in either byte order.
//
// A superblock lies behind the boot blocks at offset 8192, another one behind the last block; that with the
// higher serial number counts. Inodes and long names are files themselves, whose roots are in the superblock:
// sixteen pointers to blocks, or to blocks of pointers, as many levels deep as it says. Blocks count from
// behind the first superblock.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/checksum.h"
#include "base/structure.h"
#include "base/sum_text.h"
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

constexpr std::uint64_t kSuperAt = 0x2000, kSuperArea = 0x1000, kSuperSize = 512, kRootInode = 1;
constexpr std::uint32_t kMagic = 0x68191122;
constexpr std::uint64_t kNoBlock = 0xFFFFFFFF, kLargestFolder = 64 << 20;
constexpr std::size_t kPointers = 16, kPointer = 4, kInode = 128, kRecord = 32, kMostLevels = 5;

struct Superblock {
  std::uint32_t magic = 0, checksum = 0;
  std::uint64_t serial = 0;
  std::array<Byte, 16> volume_id{};
  std::uint32_t block_size = 0, inodes = 0, free_inodes = 0, blocks = 0, free_blocks = 0;
  static constexpr std::size_t inode_root_at = 72, long_root_at = 232;
  static constexpr auto layout = little_endian(
      field("sb_magic", &Superblock::magic), field("sb_checksum", &Superblock::checksum),
      field("sb_serial", &Superblock::serial), from_byte<32>(), field("sb_volumeid", &Superblock::volume_id),
      field("sb_blocksize", &Superblock::block_size), field("sb_num_inodes", &Superblock::inodes),
      field("sb_free_inodes", &Superblock::free_inodes), field("sb_num_blocks", &Superblock::blocks),
      field("sb_free_blocks", &Superblock::free_blocks));
};

struct InodeRecord {
  std::uint64_t size = 0;
  std::uint32_t uid = 0, gid = 0, ftime = 0, mtime = 0, atime = 0, ctime = 0;
  std::uint16_t mode = 0;
  std::uint8_t levels = 0, status = 0;
  static constexpr std::size_t pointers_at = 36;
  static constexpr auto layout = little_endian(
      field("di_size", &InodeRecord::size), field("di_uid", &InodeRecord::uid),
      field("di_gid", &InodeRecord::gid), field("di_ftime", &InodeRecord::ftime),
      field("di_mtime", &InodeRecord::mtime), field("di_atime", &InodeRecord::atime),
      field("di_ctime", &InodeRecord::ctime), field("di_mode", &InodeRecord::mode), from_byte<100>(),
      field("di_filelevels", &InodeRecord::levels), field("di_status", &InodeRecord::status));
};

/// CRC-32 with its highest bit first, from 0 on, without a final exclusive-or.
std::uint32_t crc_of(ByteView bytes) {
  constexpr std::uint32_t kPolynomial = 0x04C11DB7, kTop = 0x80000000;
  std::uint32_t crc = 0;
  for (Byte byte : bytes) {
    crc ^= std::uint32_t{byte} << 24;
    for (int i = 0; i < 8; ++i) crc = (crc & kTop) != 0 ? crc << 1 ^ kPolynomial : crc << 1;
  }
  return crc;
}

/// A file: how large it is, and the pointers that lead to it.
struct Root {
  std::uint64_t size = 0;
  std::vector<std::uint64_t> pointers;
  std::size_t levels = 0;
};

struct Shape {
  std::endian order = std::endian::little;
  Superblock super;
  Root inodes, long_names;
  std::uint64_t block() const { return super.block_size; }
};

Root root_in(ByteView super, std::size_t at, std::endian order) {
  constexpr std::size_t kPointersAt = 8, kLevelsAt = 72;
  return {load_number(super.data() + at, 8, order),
          pointers_in(super.subspan(at + kPointersAt, kPointers * kPointer), kPointer, order),
          super[at + kLevelsAt]};
}

/// Nothing without the magic; throws Malformed where the rest makes no sense.
std::optional<Shape> read_super(ByteView raw, std::uint64_t at) {
  if (raw.size() < kSuperSize) return std::nullopt;
  for (std::endian order : {std::endian::little, std::endian::big}) {
    Shape out{order, read_structure<Superblock>(raw.data(), order), {}, {}};
    if (out.super.magic != kMagic) continue;
    std::uint32_t own = crc_of(raw.subspan(8, kSuperSize - 8));
    if (!sum_fits(own, out.super.checksum))
      throw Malformed(fmt::format("QNX 6 superblock at offset {}: it does not fit its checksum{}", at,
                                  told_sums(out.super.checksum, own)));
    std::uint32_t block = out.super.block_size;
    if (block < 512 || block > 65536 || !std::has_single_bit(block))
      throw Malformed(
          fmt::format("QNX 6 superblock at offset {}: expected sb_blocksize to be a power of two from 512 to "
                      "65536, found {}",
                      at, block));
    out.inodes = root_in(raw, Superblock::inode_root_at, order);
    out.long_names = root_in(raw, Superblock::long_root_at, order);
    if (out.inodes.levels > kMostLevels || out.long_names.levels > kMostLevels)
      throw Malformed(fmt::format("QNX 6 superblock at offset {}: trees of {} and {} levels are not possible",
                                  at, out.inodes.levels, out.long_names.levels));
    return out;
  }
  return std::nullopt;
}

struct Inode {
  std::uint64_t number = 0;
  std::uint32_t mode = 0, uid = 0, gid = 0;
  Timestamp modified, accessed, changed, created;
  Root data;
};

class Qnx6Container final : public FileTree {
 public:
  Qnx6Container(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    auto first = read_super(read_up_to(*meta_, kSuperAt, kSuperSize), kSuperAt);
    if (!first) throw Malformed("QNX 6 superblock: the magic is missing");
    shape_ = *first;
    std::uint64_t second_at = kSuperAt + kSuperArea + shape_.super.blocks * shape_.block();
    use_newer(second_at);
    std::uint64_t size = image_->size();  // the second one has as much room as the first, or ends the image
    compare_sizes(*this, size, std::clamp(size, second_at + kSuperSize, second_at + kSuperArea));
    inodes_ = data_of(shape_.inodes);
    long_names_ = data_of(shape_.long_names);
  }

  Facts facts() override {
    return {{"uuid", uuid_text(shape_.super.volume_id)},
            {"byte order", shape_.order == std::endian::big ? "big-endian" : "little-endian"},
            {"capacity", size_fact(shape_.super.blocks * shape_.block())},
            {"free", size_fact(shape_.super.free_blocks * shape_.block())},
            {"block", fmt::format("{} bytes", shape_.block())}};
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    require_folder(inode, folder.a, inode.data.size, kLargestFolder);
    Bytes records = read_up_to(*data_of(inode.data), 0, inode.data.size);
    for (std::size_t at = 0; at + kRecord <= records.size(); at += kRecord) {
      ByteView record = ByteView(records).subspan(at, kRecord);
      std::uint64_t own = load_number(record.data(), 4, shape_.order);
      if (own == 0) continue;
      std::string name = name_in(record);
      if (name == "." || name == ".." || name.empty()) continue;
      TreeItem item;
      item.entry.path = std::move(name);
      item.ref = {own};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, read_inode(own)); });
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    return make_content(data_of(read_inode(ref.a).data));
  }

 private:
  void use_newer(std::uint64_t second_at) {
    try {
      auto second = read_super(read_up_to(*meta_, second_at, kSuperSize), second_at);
      if (second && second->super.serial > shape_.super.serial) shape_ = *second;
    } catch (const Malformed& error) {
      add_finding(Finding::Level::warning, error.what());
    }
  }

  /// In the record itself, or in a block of the file of long names.
  std::string name_in(ByteView record) const {
    constexpr std::size_t kSizeAt = 4, kNameAt = 5, kShort = 27, kLongAt = 8, kLong = 510;
    constexpr Byte kIsLong = 0xFF;
    if (record[kSizeAt] != kIsLong)
      return std::string(as_text(record.subspan(kNameAt, std::min<std::size_t>(record[kSizeAt], kShort))));
    std::uint64_t block = load_number(record.data() + kLongAt, 4, shape_.order);
    Bytes raw = read_exactly(*long_names_, block * shape_.block(),
                             std::min<std::uint64_t>(shape_.block(), 512), "QNX 6 long name");
    std::size_t size =
        std::min<std::size_t>(load_number(raw.data(), 2, shape_.order), std::min(kLong, raw.size() - 2));
    return std::string(as_text(ByteView(raw).subspan(2, size)));
  }

  Inode read_inode(std::uint64_t number) const {
    if (number == 0 || number > shape_.super.inodes)
      throw Malformed(
          fmt::format("inode {} is not one of the file system's {}", number, shape_.super.inodes));
    Bytes raw = read_exactly(*inodes_, (number - 1) * kInode, kInode, "QNX 6 inode");
    auto record = read_structure<InodeRecord>(raw.data(), shape_.order);
    if (record.levels > kMostLevels)
      throw Malformed(fmt::format("inode {}: expected di_filelevels to be at most {}, found {}", number,
                                  kMostLevels, record.levels));
    Inode out;
    out.number = number;
    out.mode = record.mode;
    out.uid = record.uid;
    out.gid = record.gid;
    out.modified = from_unix(record.mtime);
    out.accessed = from_unix(record.atime);
    out.changed = from_unix(record.ctime);
    out.created = from_unix(record.ftime);
    out.data = {record.size,
                pointers_in(ByteView(raw).subspan(InodeRecord::pointers_at, kPointers * kPointer), kPointer,
                            shape_.order),
                record.levels};
    return out;
  }

  std::uint64_t place(std::uint64_t block) const {
    if (block >= shape_.super.blocks)
      throw Malformed(fmt::format("block {} is not one of the file system's {}", block, shape_.super.blocks));
    return kSuperAt + kSuperArea + block * shape_.block();
  }

  /// What is known of a file's places so far.
  struct Places {
    std::uint64_t size, done = 0;  ///< bytes
    std::vector<Extent> extents = {};
    std::set<std::uint64_t> seen = {};  ///< blocks of pointers
  };

  /// Adds the blocks beneath pointers, `levels` above the data; what is not there is a hole.
  void gather(const std::vector<std::uint64_t>& pointers, std::size_t levels, Places& out) const {
    std::uint64_t span = shape_.block();
    for (std::size_t i = 0; i < levels; ++i) span *= shape_.block() / kPointer;
    for (std::uint64_t pointer : pointers) {
      if (out.done >= out.size) return;
      std::uint64_t length = std::min(span, out.size - out.done);
      if (pointer != kNoBlock && levels > 0) {
        if (!out.seen.insert(pointer).second)
          throw Malformed(fmt::format("block {} of pointers is met twice", pointer));
        Bytes raw = read_exactly(*meta_, place(pointer), shape_.block(), "QNX 6 pointers");
        gather(pointers_in(raw, kPointer, shape_.order), levels - 1, out);
        continue;
      }
      if (pointer != kNoBlock) add_extent(out.extents, {out.done, place(pointer), length});
      out.done += length;
    }
  }

  SourcePtr data_of(const Root& root) const {
    Places places{root.size};
    gather(root.pointers, root.levels, places);
    if (places.done < root.size)
      throw Malformed(
          fmt::format("a file's pointers: expected places for {} bytes, found {}", root.size, places.done));
    return make_extent_source(image_, std::move(places.extents), root.size);
  }

  void fill(TreeItem& item, const Inode& inode) const {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    if (entry.kind == EntryKind::file) {
      entry.size = entry.stored_size = inode.data.size;
      item.link_id = inode.number;
    }
    if (entry.kind == EntryKind::symbolic_link) extra.link_target = link_target_in(*data_of(inode.data));
  }

  SourcePtr image_, meta_, inodes_, long_names_;
  Shape shape_;
};

Match recognise_qnx6(Probe& probe) {
  return match_superblock(probe, "a QNX 6 file system",
                          [&] { return read_super(probe.at(kSuperAt, kSuperSize), kSuperAt).has_value(); });
}

ContainerPtr open_qnx6(const Input& input, OpenContext& context) {
  return std::make_shared<Qnx6Container>(random_access(*input.content, context.spool), context);
}

PlacedFields shown_super(Probe& probe) {
  auto shape = read_super(probe.at(kSuperAt, kSuperSize), kSuperAt);
  return shape ? fields_at<Superblock>(probe, kSuperAt, shape->order) : PlacedFields{};
}

}  // namespace

Format qnx6_format() {
  return {.id = "qnx6",
          .name = "QNX 6 file system",
          .family = "file system",
          .specification = "Linux kernel, include/uapi/linux/qnx6_fs.h",
          .reads = "both byte orders, both superblocks, long names, holes, links, owners, modes and times",
          .lacks = "the variant without boot blocks of some car systems",
          .suffixes = {},
          .recognise = recognise_qnx6,
          .open = open_qnx6,
          .records = {{"superblock", shown_super}}};
}

}  // namespace operculum
