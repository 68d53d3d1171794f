// The BeOS file system, after D. Giampaolo, "Practical File System Design with the Be File System" (1999),
// and the structures that the Linux kernel publishes (fs/befs/befs_fs_types.h). The superblock tells its byte
// order.
//
// The disk is divided into allocation groups; a block run is a group, a start and a length in it. An inode
// fills a block: modes, times, a data stream of up to twelve runs, then runs of runs, then runs of such; what
// room is left holds small attributes. A folder is a B+tree from names to inodes in its data stream.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/checked.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic1 = 0x42465331, kMagic2 = 0xDD121031, kMagic3 = 0x15B6830E,
                        kInodeMagic = 0x3BBE0AD9, kTreeMagic = 0x69F6C2E8;
constexpr std::uint64_t kNone = UINT64_MAX;
constexpr std::size_t kDirectRuns = 12, kRun = 8;

struct Superblock {
  std::array<Byte, 32> name{};
  std::uint32_t magic1 = 0, byte_order = 0, block_size = 0, block_shift = 0;
  std::uint64_t num_blocks = 0, used_blocks = 0;
  std::uint32_t inode_size = 0, magic2 = 0, blocks_per_ag = 0, ag_shift = 0, num_ags = 0, flags = 0,
                magic3 = 0;
  std::uint32_t root_group = 0;
  std::uint16_t root_start = 0, root_length = 0;
  static constexpr std::uint32_t clean = 0x434C454E;
  static constexpr auto layout = little_endian(
      field("name", &Superblock::name), field("magic1", &Superblock::magic1),
      field("fs_byte_order", &Superblock::byte_order), field("block_size", &Superblock::block_size),
      field("block_shift", &Superblock::block_shift), field("num_blocks", &Superblock::num_blocks),
      field("used_blocks", &Superblock::used_blocks), field("inode_size", &Superblock::inode_size),
      field("magic2", &Superblock::magic2), field("blocks_per_ag", &Superblock::blocks_per_ag),
      field("ag_shift", &Superblock::ag_shift), field("num_ags", &Superblock::num_ags),
      field("flags", &Superblock::flags), from_byte<112>(), field("magic3", &Superblock::magic3),
      field("root_dir.allocation_group", &Superblock::root_group),
      field("root_dir.start", &Superblock::root_start), field("root_dir.len", &Superblock::root_length));
};

struct InodeHead {
  std::uint32_t magic1 = 0, uid = 0, gid = 0, mode = 0, flags = 0;
  std::uint64_t create_time = 0, last_modified_time = 0;
  std::uint32_t type = 0;
  static constexpr std::uint32_t long_symlink = 0x40;
  static constexpr std::size_t data_at = 72, links_at = 144;  ///< the data stream, or a short link's target
  static constexpr auto layout =
      little_endian(field("magic1", &InodeHead::magic1), from_byte<12>(), field("uid", &InodeHead::uid),
                    field("gid", &InodeHead::gid), field("mode", &InodeHead::mode),
                    field("flags", &InodeHead::flags), field("create_time", &InodeHead::create_time),
                    field("last_modified_time", &InodeHead::last_modified_time), from_byte<60>(),
                    field("type", &InodeHead::type));
};

/// Behind the direct runs of a data stream.
struct StreamTail {
  std::uint64_t max_direct = 0, indirect = 0, max_indirect = 0, double_indirect = 0, max_double_indirect = 0,
                size = 0;
  static constexpr auto layout = little_endian(
      field("max_direct_range", &StreamTail::max_direct), from_byte<16>(),
      field("max_indirect_range", &StreamTail::max_indirect), from_byte<32>(),
      field("max_double_indirect_range", &StreamTail::max_double_indirect), field("size", &StreamTail::size));
};

struct TreeHead {
  std::uint32_t magic = 0, node_size = 0, max_depth = 0, data_type = 0;
  std::uint64_t root = 0;
  static constexpr auto layout =
      little_endian(field("magic", &TreeHead::magic), field("node_size", &TreeHead::node_size),
                    field("max_number_of_levels", &TreeHead::max_depth),
                    field("data_type", &TreeHead::data_type), field("root_node_pointer", &TreeHead::root));
};

struct NodeHead {
  std::uint64_t left = 0, right = 0, overflow = 0;
  std::uint16_t keys = 0, key_bytes = 0;
  static constexpr auto layout =
      little_endian(field("left", &NodeHead::left), field("right", &NodeHead::right),
                    field("overflow", &NodeHead::overflow), field("all_key_count", &NodeHead::keys),
                    field("all_key_length", &NodeHead::key_bytes));
};

struct Shape {
  std::endian order = std::endian::little;
  std::uint64_t super_at = 0;  ///< bytes
  Superblock super;
  std::uint64_t block() const { return super.block_size; }
};

/// Nothing without the first magic; throws Malformed where the rest makes no sense.
std::optional<Shape> read_super(ByteView raw, std::uint64_t at) {
  constexpr std::string_view kWhat = "BeOS superblock";
  if (raw.size() < size_on_disk<Superblock>) return std::nullopt;
  for (std::endian order : {std::endian::little, std::endian::big}) {
    auto super = read_structure<Superblock>(raw.data(), order);
    if (super.magic1 != kMagic1) continue;
    for (auto [member, magic] :
         {std::pair(&Superblock::magic2, kMagic2), std::pair(&Superblock::magic3, kMagic3)})
      if (super.*member != magic)
        refuse_field(kWhat, at, member, fmt::format("{:08x}", magic), fmt::format("{:08x}", super.*member));
    if (super.block_shift < 9 || super.block_shift > 16 || super.block_size != 1U << super.block_shift)
      refuse_field(kWhat, at, &Superblock::block_size,
                   fmt::format("2 to the power of block_shift ({})", super.block_shift),
                   std::to_string(super.block_size));
    if (super.ag_shift > 32)
      refuse_field(kWhat, at, &Superblock::ag_shift, "at most 32", std::to_string(super.ag_shift));
    return Shape{order, at, super};
  }
  return std::nullopt;
}

constexpr std::uint64_t kPlaces[] = {512, 0};  // a disk of its own machine, of others

template <typename Read>
std::optional<Shape> find_shape(Read read) {
  for (std::uint64_t at : kPlaces)
    if (auto shape = read_super(read(at, size_on_disk<Superblock>), at)) return shape;
  return std::nullopt;
}

struct Inode {
  std::uint64_t at = 0, size = 0, allocated = 0;
  std::uint32_t mode = 0, uid = 0, gid = 0, flags = 0;
  Timestamp modified, accessed, changed, created;
  Bytes raw;
};

class BeContainer final : public FileTree {
 public:
  BeContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    auto shape =
        find_shape([this](std::uint64_t at, std::size_t count) { return read_up_to(*meta_, at, count); });
    if (!shape) throw Malformed("BeOS superblock: the magic is missing");
    shape_ = *shape;
    compare_sizes(*this, image_->size(), shape_.super.num_blocks * shape_.block());
    if (shape_.super.flags != Superblock::clean)
      add_finding(Finding::Level::warning,
                  "it was not unmounted: its journal was not replayed, the newest files may be missing");
  }

  Facts facts() override {
    std::string name(until_zero(as_text(shape_.super.name)));
    return {{"label", escape(name)},
            {"byte order", shape_.order == std::endian::big ? "big-endian" : "little-endian"},
            {"capacity", size_fact(shape_.super.num_blocks * shape_.block())},
            {"used", size_fact(shape_.super.used_blocks * shape_.block())},
            {"block", fmt::format("{} bytes", shape_.block())}};
  }

 protected:
  NodeRef root() override {
    return {(std::uint64_t{shape_.super.root_group} << shape_.super.ag_shift) + shape_.super.root_start};
  }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    if (kind_of_mode(inode.mode) != EntryKind::folder)
      throw Malformed(fmt::format("the inode in block {} is no folder", folder.a));
    SourcePtr tree = data_of(inode);
    auto head = read_structure<TreeHead>(read_exactly(*tree, 0, size_on_disk<TreeHead>, "BeOS folder").data(),
                                         shape_.order);
    constexpr std::uint32_t kSmallest = 64, kLargest = 64 << 10;
    if (head.magic != kTreeMagic || head.node_size < kSmallest || head.node_size > kLargest)
      throw Malformed(fmt::format("folder in block {}: its tree has no magic, or nodes of {} bytes", folder.a,
                                  head.node_size));
    std::uint64_t node = leftmost(*tree, head);
    std::set<std::uint64_t> seen;
    while (node != kNone) {
      if (!seen.insert(node).second)
        throw Malformed(fmt::format("folder in block {}: its tree leads in a circle", folder.a));
      node = list_node(*tree, head, node, sink);
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return make_content(data_of(read_inode(ref.a))); }

 private:
  template <typename S>
  S structure(const Byte* bytes) const {
    return read_structure<S>(bytes, shape_.order);
  }
  std::uint64_t number(const Byte* bytes, std::size_t width) const {
    return load_number(bytes, width, shape_.order);
  }

  /// The first leaf: inner nodes hold the nodes below as values.
  std::uint64_t leftmost(const Source& tree, const TreeHead& head) const {
    std::uint64_t node = head.root;
    constexpr int kDeepest = 32;
    for (int depth = 0; depth < kDeepest; ++depth) {
      Bytes raw = read_exactly(tree, node, head.node_size, "BeOS folder");
      auto own = structure<NodeHead>(raw.data());
      if (own.overflow == kNone) return node;
      node = own.keys == 0 ? own.overflow : number(raw.data() + values_at(own, raw.size()), 8);
    }
    throw Malformed("a folder's tree is too deep");
  }

  /// Behind the keys, at a multiple of eight, are the keys' ends, then the values.
  static std::size_t values_at(const NodeHead& head, std::size_t size) {
    std::size_t ends_at = (size_on_disk<NodeHead> + head.key_bytes + 7) / 8 * 8,
                out = ends_at + head.keys * 2;
    if (out + head.keys * 8 > size)
      throw Malformed(fmt::format("a folder's tree: {} names of {} bytes do not fit into a node of {}",
                                  head.keys, head.key_bytes, size));
    return out;
  }

  std::uint64_t list_node(const Source& tree, const TreeHead& head, std::uint64_t node,
                          const TreeSink& sink) {
    Bytes raw = read_exactly(tree, node, head.node_size, "BeOS folder");
    auto own = structure<NodeHead>(raw.data());
    std::size_t values = values_at(own, raw.size()), ends = values - own.keys * 2, begin = 0;
    for (std::size_t i = 0; i < own.keys; ++i) {
      std::size_t end = number(raw.data() + ends + i * 2, 2);
      if (end < begin || end > own.key_bytes)
        throw Malformed(fmt::format("a folder's tree: a name ends at byte {} of {}", end, own.key_bytes));
      std::string name(as_text(ByteView(raw).subspan(size_on_disk<NodeHead> + begin, end - begin)));
      begin = end;
      if (name == "." || name == "..") continue;
      TreeItem item;
      item.entry.path = std::move(name);
      item.ref = {number(raw.data() + values + i * 8, 8)};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, read_inode(one.ref.a)); });
    }
    return own.right;
  }

  std::uint64_t place(std::uint64_t block, std::uint64_t count) const {
    if (block >= shape_.super.num_blocks || count > shape_.super.num_blocks - block)
      throw Malformed(fmt::format("blocks {} to {} are not among the file system's {}", block,
                                  block + count - 1, shape_.super.num_blocks));
    return block * shape_.block();
  }

  Inode read_inode(std::uint64_t block) const {
    Inode out;
    out.at = place(block, 1);
    out.raw = read_exactly(*meta_, out.at, shape_.block(), "BeOS inode");
    auto head = structure<InodeHead>(out.raw.data());
    if (head.magic1 != kInodeMagic)
      throw Malformed(fmt::format("BeOS inode at offset {}: the magic is missing", out.at));
    out.mode = head.mode;
    out.uid = head.uid;
    out.gid = head.gid;
    out.flags = head.flags;
    constexpr int kTimeShift = 16;  // below it numbers that tell times apart
    out.created = from_unix(static_cast<std::int64_t>(head.create_time >> kTimeShift));
    out.modified = from_unix(static_cast<std::int64_t>(head.last_modified_time >> kTimeShift));
    out.size = tail_of(out).size;
    return out;
  }

  StreamTail tail_of(const Inode& inode) const {
    return structure<StreamTail>(inode.raw.data() + InodeHead::data_at + kDirectRuns * kRun);
  }

  struct Run {
    std::uint64_t at, length;  ///< bytes
  };
  Run run_at(const Byte* bytes) const {
    std::uint64_t block = (number(bytes, 4) << shape_.super.ag_shift) + number(bytes + 4, 2),
                  count = number(bytes + 6, 2);
    if (count == 0) return {0, 0};
    return {place(block, count), count * shape_.block()};
  }

  SourcePtr data_of(const Inode& inode) const {
    std::vector<Extent> out;
    std::uint64_t done = 0;
    auto take = [&](const Run& run) {
      std::uint64_t length = std::min(run.length, inode.size - done);
      if (length > 0) add_extent(out, {done, run.at, length});
      done += length;
    };
    auto take_runs = [&](ByteView runs) {
      for (std::size_t at = 0; at + kRun <= runs.size() && done < inode.size; at += kRun)
        take(run_at(runs.data() + at));
    };
    const Byte* stream = inode.raw.data() + InodeHead::data_at;
    take_runs({stream, kDirectRuns * kRun});
    constexpr std::size_t kIndirectAt = kDirectRuns * kRun + 8, kDoubleAt = kIndirectAt + 16;
    std::uint64_t left = kMostOfRuns;
    if (done < inode.size) take_runs(block_of_runs(run_at(stream + kIndirectAt), left));
    if (done < inode.size) {
      Bytes outer = block_of_runs(run_at(stream + kDoubleAt), left);
      for (std::size_t at = 0; at + kRun <= outer.size() && done < inode.size; at += kRun)
        take_runs(block_of_runs(run_at(outer.data() + at), left));
    }
    if (done < inode.size)
      throw Malformed(fmt::format("the inode at offset {}: expected places for {} bytes, found {}", inode.at,
                                  inode.size, done));
    return make_extent_source(image_, std::move(out), inode.size);
  }

  /// `left` is what may still be read of a file's runs.
  static constexpr std::uint64_t kMostOfRuns = 64 << 20;
  Bytes block_of_runs(const Run& run, std::uint64_t& left) const {
    if (run.length > left) throw Malformed("a file's runs of blocks take more room than is possible");
    left -= run.length;

    return read_exactly(*meta_, run.at, run.length, "BeOS block runs");
  }

  void fill(TreeItem& item, const Inode& inode) const {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, inode);
    if (entry.kind == EntryKind::file) entry.size = entry.stored_size = inode.size;
    if (entry.kind != EntryKind::symbolic_link) return;
    if ((inode.flags & InodeHead::long_symlink) != 0)
      extra.link_target = link_target_in(*data_of(inode));
    else
      extra.link_target =
          until_zero(as_text(ByteView(inode.raw).subspan(InodeHead::data_at, InodeHead::links_at)));
  }

  SourcePtr image_, meta_;
  Shape shape_;
};

Match recognise_befs(Probe& probe) {
  return match_superblock(probe, "a BeOS file system",
                          [&] { return find_shape(reader_of(probe)).has_value(); });
}

ContainerPtr open_befs(const Input& input, OpenContext& context) {
  return std::make_shared<BeContainer>(random_access(*input.content, context.spool), context);
}

PlacedFields shown_super(Probe& probe) {
  auto found = find_shape(reader_of(probe));
  return found ? fields_at<Superblock>(probe, found->super_at, found->order) : PlacedFields{};
}

}  // namespace

Format befs_format() {
  return {.id = "befs",
          .name = "BeOS file system",
          .family = "file system",
          .specification =
              "D. Giampaolo, Practical File System Design with the Be File System; Linux befs_fs_types.h",
          .reads =
              "both byte orders, folders of all sizes, data in direct, indirect and double indirect runs, "
              "links, owners, modes and times",
          .lacks = "extended attributes and indexes; the journal is not replayed",
          .suffixes = {".befs"},
          .recognise = recognise_befs,
          .open = open_befs,
          .records = {{"superblock", shown_super}}};
}

}  // namespace operculum
