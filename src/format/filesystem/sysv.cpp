// The System V file system and its relatives, after the structures that the Linux kernel publishes
// (include/linux/sysv_fs.h, Documentation/filesystems/sysv-fs.rst): Xenix, System V release 2 and 4,
// Coherent. Block 1 holds the superblock, of 512 bytes in the middle of the first kilobyte but for Xenix;
// inodes follow from block 2 on, then the data. An inode has 13 block numbers of three bytes: ten of the
// file's blocks, then one of a block of numbers, one of a block of such, and a third level. A folder is a
// file of records: inode number, then the name filled up with zeros. Coherent keeps the halves of a number
// of 32 bits in the order of the PDP-11.
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint64_t kKilobyte = 1024, kHalf = 512, kRootInode = 2, kFirstInodeBlock = 2;
constexpr std::size_t kInode = 64, kRecord = 16, kName = 14, kAddresses = 13, kDirect = 10, kAddress = 3;
constexpr std::uint64_t kLargestFolder = 64 << 20;  // bytes

enum class Order { little, big, pdp };

std::uint64_t number(const Byte* bytes, std::size_t width, Order order) {
  if (order != Order::pdp || width <= 2)
    return load_number(bytes, width, order == Order::big ? std::endian::big : std::endian::little);
  return load_number(bytes, 2, std::endian::little) << 16 | load_number(bytes + 2, 2, std::endian::little);
}

/// Where the fields of a relative's superblock are, in bytes from its begin.
struct Relative {
  std::string_view name;
  std::size_t size_at, time_at, name_at, volume_at;
};
constexpr Relative kXenix{"Xenix", 2, 614, 632, 638}, kRelease4{"System V release 4", 4, 420, 440, 446},
    kRelease2{"System V release 2", 2, 414, 432, 438}, kCoherent{"Coherent", 2, 470, 484, 490};
constexpr std::size_t kNameSize = 6;

struct Shape {
  const Relative* relative = nullptr;
  Order order = Order::little;
  std::uint64_t base = 0;  ///< bytes, of the file system in the image
  std::uint64_t block = 0, blocks = 0, first_data = 0;
  std::string label;
  std::uint64_t inodes_at() const { return base + kFirstInodeBlock * block; }
  std::uint64_t inodes() const { return (first_data - kFirstInodeBlock) * (block / kInode); }
};

/// Nothing where the numbers make no sense together.
std::optional<Shape> shape_of(ByteView super, const Relative& relative, Order order, std::uint64_t base,
                              std::uint64_t block) {
  Shape out{&relative, order, base, block};
  out.first_data = number(super.data(), 2, order);
  out.blocks = number(super.data() + relative.size_at, 4, order);
  if (out.first_data <= kFirstInodeBlock || out.blocks <= out.first_data) return std::nullopt;
  for (std::size_t at : {relative.name_at, relative.volume_at}) {
    std::string_view part = until_zero(as_text(super.subspan(at, kNameSize)));
    if (!out.label.empty() && !part.empty()) out.label += ' ';
    out.label += trim(part);
  }
  return out;
}

std::optional<Shape> read_xenix(ByteView super) {
  constexpr std::size_t kMagicAt = 1016, kTypeAt = 1020;
  constexpr std::uint32_t kMagic = 0x002B5544;
  for (Order order : {Order::little, Order::big}) {
    if (number(super.data() + kMagicAt, 4, order) != kMagic) continue;
    std::uint64_t type = number(super.data() + kTypeAt, 4, order);
    if (type == 1 || type == 2) return shape_of(super, kXenix, order, 0, kHalf * type);
  }
  return std::nullopt;
}

std::optional<Shape> read_system_v(ByteView super, std::uint64_t base) {
  constexpr std::size_t kMagicAt = 504, kTypeAt = 508;
  constexpr std::uint32_t kMagic = 0xFD187E20, kSince1980 = 315'532'800;
  for (Order order : {Order::little, Order::big}) {
    if (number(super.data() + kMagicAt, 4, order) != kMagic) continue;
    std::uint64_t type = number(super.data() + kTypeAt, 4, order);
    if (type < 1 || type > 3) return std::nullopt;
    // the releases differ in nothing but their padding: the one whose time makes sense
    for (const Relative* one : {&kRelease4, &kRelease2})
      if (number(super.data() + one->time_at, 4, order) >= kSince1980)
        return shape_of(super, *one, order, base, kHalf << (type - 1));
  }
  return std::nullopt;
}

std::optional<Shape> read_coherent(ByteView super) {
  std::string_view name = as_text(super.subspan(kCoherent.name_at, kNameSize)),
                   volume = as_text(super.subspan(kCoherent.volume_at, kNameSize));
  bool unnamed = (name == "noname" && volume == "nopack") || (name == "xxxxx " && volume == "xxxxx\n");
  return unnamed ? shape_of(super, kCoherent, Order::pdp, 0, kHalf) : std::nullopt;
}

/// By `read(at, count)`, which may give fewer bytes.
template <typename Read>
std::optional<Shape> find_shape(Read read) {
  Bytes front = read(0, 2 * kKilobyte);
  if (front.size() < 2 * kKilobyte) return std::nullopt;
  ByteView whole = front;
  if (auto found = read_xenix(whole.subspan(kKilobyte))) return found;
  if (auto found = read_system_v(whole.subspan(kHalf), 0)) return found;
  if (auto found = read_coherent(whole.subspan(kHalf))) return found;
  // behind the boot tracks of a floppy
  for (std::uint64_t base : {9, 15, 18}) {
    Bytes super = read(base * kKilobyte + kHalf, kHalf);
    if (super.size() < kHalf) break;
    if (auto found = read_system_v(super, base * kKilobyte)) return found;
  }
  return std::nullopt;
}

struct Inode {
  std::uint64_t number = 0, size = 0;
  std::uint32_t mode = 0, uid = 0, gid = 0, links = 0;
  Timestamp modified, accessed, changed, created;
  std::vector<std::uint64_t> addresses;
};

class SystemVContainer final : public FileTree {
 public:
  SystemVContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    auto shape =
        find_shape([this](std::uint64_t at, std::size_t count) { return read_up_to(*meta_, at, count); });
    if (!shape) throw Malformed("System V superblock: no magic, or numbers that make no sense together");
    shape_ = *shape;
    compare_sizes(*this, image_->size(), shape_.base + shape_.blocks * shape_.block);
  }

  Facts facts() override {
    constexpr std::string_view kOrders[] = {"little-endian", "big-endian", "PDP-11"};
    Facts out = {{"version", std::string(shape_.relative->name)},
                 {"byte order", std::string(kOrders[static_cast<int>(shape_.order)])},
                 {"capacity", size_fact(shape_.blocks * shape_.block)},
                 {"block", fmt::format("{} bytes", shape_.block)}};
    if (!shape_.label.empty()) out.emplace_back("label", escape(shape_.label));
    return out;
  }

 protected:
  NodeRef root() override { return {kRootInode}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    require_folder(inode, folder.a, inode.size, kLargestFolder);
    Bytes records = read_up_to(*data_of(inode), 0, inode.size);
    for (std::size_t at = 0; at + kRecord <= records.size(); at += kRecord) {
      std::uint64_t own = number(records.data() + at, 2, shape_.order);
      std::string_view name = until_zero(as_text(ByteView(records).subspan(at + 2, kName)));
      if (own == 0 || name == "." || name == "..") continue;
      TreeItem item;
      item.entry.path = std::string(name);
      item.ref = {own};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, read_inode(own)); });
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return make_content(data_of(read_inode(ref.a))); }

 private:
  Inode read_inode(std::uint64_t wanted) const {
    if (wanted == 0 || wanted > shape_.inodes())
      throw Malformed(fmt::format("inode {} is not one of the file system's {}", wanted, shape_.inodes()));
    constexpr std::size_t kSizeAt = 8, kAddressesAt = 12, kTimesAt = 52;
    Bytes raw = read_exactly(*meta_, shape_.inodes_at() + (wanted - 1) * kInode, kInode, "System V inode");
    auto at = [&](std::size_t place, std::size_t width) {
      return number(raw.data() + place, width, shape_.order);
    };
    auto small = [&](std::size_t place) { return static_cast<std::uint32_t>(at(place, 2)); };
    auto time = [&](std::size_t place) { return from_unix(static_cast<std::int64_t>(at(place, 4))); };
    Inode out;
    out.number = wanted;
    out.mode = small(0);
    out.links = small(2);
    out.uid = small(4);
    out.gid = small(6);
    out.size = at(kSizeAt, 4);
    out.accessed = time(kTimesAt);
    out.modified = time(kTimesAt + 4);
    out.changed = time(kTimesAt + 8);
    for (std::size_t i = 0; i < kAddresses; ++i)
      out.addresses.push_back(address(raw.data() + kAddressesAt + i * kAddress));
    return out;
  }

  /// Three bytes: in the order of the PDP-11 the highest comes first, then the other two, low one first.
  std::uint64_t address(const Byte* bytes) const {
    switch (shape_.order) {
      case Order::pdp:
        return std::uint64_t{bytes[0]} << 16 | std::uint64_t{bytes[2]} << 8 | bytes[1];
      case Order::big:
        return load_number(bytes, kAddress, std::endian::big);
      default:
        return load_number(bytes, kAddress, std::endian::little);
    }
  }

  SourcePtr data_of(const Inode& inode) const {
    constexpr std::size_t kPointer = 4;
    IndirectBlocks blocks;
    auto split = inode.addresses.begin() + kDirect;
    blocks.direct.assign(inode.addresses.begin(), split);
    blocks.indirect.assign(split, inode.addresses.end());
    blocks.block_size = shape_.block;
    blocks.pointers_in_block = shape_.block / kPointer;
    blocks.place = [this](std::uint64_t block) {
      if (block < shape_.first_data || block >= shape_.blocks)
        throw Malformed(
            fmt::format("block {} is not one of {} to {}", block, shape_.first_data, shape_.blocks - 1));
      return shape_.base + block * shape_.block;
    };
    blocks.read = [this](std::uint64_t at) {
      Bytes raw = read_exactly(*meta_, at, shape_.block, "System V block numbers");
      std::vector<std::uint64_t> out;
      for (std::size_t i = 0; i + kPointer <= raw.size(); i += kPointer)
        out.push_back(number(raw.data() + i, kPointer, shape_.order));
      return out;
    };
    return make_extent_source(image_, extents_of(blocks, inode.size), inode.size);
  }

  void fill(TreeItem& item, const Inode& inode) const {
    fill_old_inode(item, inode, inode.addresses[0], [&] { return data_of(inode); });
  }

  SourcePtr image_, meta_;
  Shape shape_;
};

Match recognise_sysv(Probe& probe) {
  auto shape = find_shape(reader_of(probe));
  if (!shape) return Match::none;
  Bytes root = probe.at(shape->inodes_at() + (kRootInode - 1) * kInode, 2);
  if (root.size() < 2) return Match::none;
  auto mode = static_cast<std::uint32_t>(number(root.data(), 2, shape->order));
  return kind_of_mode(mode) == EntryKind::folder ? Match::front : Match::none;
}

ContainerPtr open_sysv(const Input& input, OpenContext& context) {
  return std::make_shared<SystemVContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format sysv_format() {
  return {
      .id = "sysv",
      .name = "System V file system",
      .family = "file system",
      .specification = "Linux kernel, include/linux/sysv_fs.h and Documentation/filesystems/sysv-fs.rst",
      .reads = "System V releases 2 and 4 and Xenix in both byte orders, Coherent; all entry kinds, holes",
      .lacks = "the seventh edition's, which nothing marks",
      .suffixes = {},
      .recognise = recognise_sysv,
      .open = open_sysv};
}

}  // namespace operculum
