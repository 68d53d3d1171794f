// HPFS, the file system of OS/2, after R. Duncan, "Design goals and implementation of the new High
// Performance File System" (1989), and the structures that the Linux kernel publishes (fs/hpfs/hpfs.h).
// Numbers are little-endian, sectors have 512 bytes.
//
// Sector 16 holds the superblock, which leads to the root's fnode, sector 17 the spare block. Every file and
// folder has an fnode: of a file the runs of its sectors, or the nodes of a tree of them (anodes); of a
// folder the root of a B-tree of names (dnodes of four sectors), whose records name the fnodes.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint64_t kSector = 512, kSuperAt = 16 * kSector, kSpareAt = 17 * kSector, kDnode = 2048;
constexpr std::uint32_t kSuperMagic = 0xF995E849, kSuperMagic1 = 0xFA53E9C5, kFnodeMagic = 0xF7E40AAE,
                        kAnodeMagic = 0x37E40AAE, kDnodeMagic = 0x77E40AAE;

struct Superblock {
  std::uint32_t magic = 0, magic1 = 0;
  std::uint8_t version = 0;
  std::uint32_t root = 0, sectors = 0, bad = 0;
  static constexpr auto layout =
      little_endian(field("magic", &Superblock::magic), field("magic1", &Superblock::magic1),
                    field("version", &Superblock::version), from_byte<12>(), field("root", &Superblock::root),
                    field("n_sectors", &Superblock::sectors), field("n_badblocks", &Superblock::bad));
};

struct SpareBlock {
  std::uint32_t magic = 0;
  std::uint8_t flags = 0;
  static constexpr std::uint32_t right_magic = 0xF9911849;
  static constexpr std::uint8_t dirty = 1;
  static constexpr auto layout =
      little_endian(field("magic", &SpareBlock::magic), from_byte<8>(), field("flags", &SpareBlock::flags));
};

/// What an extended attribute begins with; its name and a zero, then the value follow.
struct AttributeHead {
  std::uint8_t flags = 0, name_length = 0;
  std::uint16_t value_length = 0;
  static constexpr auto layout = little_endian(field("ea_flags", &AttributeHead::flags),
                                               field("ea_namelen", &AttributeHead::name_length),
                                               field("ea_valuelen", &AttributeHead::value_length));
};

struct Fnode {
  std::uint32_t magic = 0;
  std::uint16_t ea_size = 0;
  std::uint8_t flags = 0;
  std::uint32_t file_size = 0;
  std::uint16_t ea_at = 0;
  static constexpr std::uint8_t is_folder = 1;
  static constexpr std::size_t tree_at = 56, room = 8;  ///< runs that it has room for
  static constexpr auto layout =
      little_endian(field("magic", &Fnode::magic), from_byte<52>(), field("ea_size_s", &Fnode::ea_size),
                    from_byte<55>(), field("flags", &Fnode::flags), from_byte<160>(),
                    field("file_size", &Fnode::file_size), from_byte<184>(), field("ea_offs", &Fnode::ea_at));
};

/// In front of runs, in an fnode or an anode; of inner nodes each is a file sector and an anode.
struct TreeHead {
  std::uint8_t flags = 0, used = 0;
  static constexpr std::uint8_t inner = 0x80;
  static constexpr std::size_t size = 8, run = 12, branch = 8;
  static constexpr auto layout = little_endian(field("btree_flags", &TreeHead::flags), from_byte<5>(),
                                               field("n_used_nodes", &TreeHead::used));
};
constexpr std::size_t kAnodeTreeAt = 12;

struct Run {
  std::uint32_t file_sector = 0, length = 0, disk_sector = 0;
  static constexpr auto layout =
      little_endian(field("file_secno", &Run::file_sector), field("length", &Run::length),
                    field("disk_secno", &Run::disk_sector));
};

/// A name in a folder.
struct Record {
  std::uint16_t length = 0;
  std::uint8_t flags = 0, attributes = 0;
  std::uint32_t fnode = 0, write_date = 0, file_size = 0, read_date = 0, creation_date = 0;
  std::uint8_t name_length = 0;
  static constexpr std::uint8_t special = 1, down = 4, last = 8;  ///< flags
  static constexpr std::uint8_t folder = 16;                      ///< attributes
  static constexpr std::size_t first_at = 20, name_at = 31;
  static constexpr auto layout =
      little_endian(field("length", &Record::length), field("flags", &Record::flags),
                    field("attributes", &Record::attributes), field("fnode", &Record::fnode),
                    field("write_date", &Record::write_date), field("file_size", &Record::file_size),
                    field("read_date", &Record::read_date), field("creation_date", &Record::creation_date),
                    from_byte<30>(), field("namelen", &Record::name_length));
};

bool is_super(ByteView raw) {
  auto super = read_structure<Superblock>(raw.data());
  return super.magic == kSuperMagic && super.magic1 == kSuperMagic1;
}

/// The machine's own clock; 0 is not told.
Timestamp time_of(std::uint32_t seconds) {
  if (seconds == 0) return {};
  Timestamp out = from_unix(seconds);
  out.floating = true;
  return out;
}

class HpfsContainer final : public FileTree {
 public:
  HpfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits),
        image_(std::move(image)),
        meta_(make_cached(image_)),
        encoding_(context.names_in.empty() ? "CP850" : context.names_in) {
    Bytes raw = read_exactly(*meta_, kSuperAt, kSector, "HPFS superblock");
    if (!is_super(raw)) throw Malformed("HPFS superblock: the magic is missing");
    super_ = read_structure<Superblock>(raw.data());
    compare_sizes(*this, image_->size(), super_.sectors * kSector);
    Bytes spare = read_up_to(*meta_, kSpareAt, kSector);
    if (spare.size() < kSector) return;
    auto own = read_structure<SpareBlock>(spare.data());
    if (own.magic != SpareBlock::right_magic)
      add_finding(Finding::Level::warning, "the spare block's magic is missing");
    else if ((own.flags & SpareBlock::dirty) != 0)
      add_finding(Finding::Level::warning, "it was not unmounted: it may be inconsistent");
  }

  Facts facts() override {
    constexpr std::size_t kLabelAt = 43, kLabel = 11, kMarkAt = 38;
    Facts out;
    Bytes boot = read_up_to(*meta_, 0, kSector);
    if (boot.size() == kSector && boot[kMarkAt] == 0x28)
      if (std::string_view label = trim(until_zero(as_text(ByteView(boot).subspan(kLabelAt, kLabel))));
          !label.empty())
        out.emplace_back("label", escape(to_utf8(label, encoding_).value_or(std::string(label))));
    out.emplace_back("version", fmt::format("{}", super_.version));
    out.emplace_back("capacity", size_fact(super_.sectors * kSector));
    return out;
  }

 protected:
  NodeRef root() override { return {super_.root}; }
  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return to_lower(stored) == to_lower(wanted);
  }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Bytes raw = fnode_at(folder.a);
    if ((read_structure<Fnode>(raw.data()).flags & Fnode::is_folder) == 0)
      throw Malformed(fmt::format("the fnode in sector {} is no folder's", folder.a));
    auto first = read_structure<Run>(raw.data() + Fnode::tree_at + TreeHead::size);
    std::set<std::uint64_t> seen;
    list_node(first.disk_sector, 0, seen, sink);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Bytes raw = fnode_at(ref.a);
    std::uint64_t size = read_structure<Fnode>(raw.data()).file_size;
    std::vector<Extent> extents;
    std::set<std::uint64_t> seen;
    gather(ByteView(raw).subspan(Fnode::tree_at), Fnode::room, size, 0, seen, extents);
    return make_content(make_extent_source(image_, std::move(extents), size));
  }

 private:
  static constexpr int kDeepest = 32;

  std::uint64_t place(std::uint64_t sector, std::uint64_t count) const {
    if (sector >= super_.sectors || count > super_.sectors - sector)
      throw Malformed(fmt::format("sectors {} to {} are not among the file system's {}", sector,
                                  sector + count - 1, super_.sectors));
    return sector * kSector;
  }

  Bytes node_at(std::uint64_t sector, std::uint64_t size, std::uint32_t magic, std::string_view what) const {
    Bytes raw = read_exactly(*meta_, place(sector, size / kSector), size, what);
    if (load_little<std::uint32_t>(raw.data()) != magic)
      throw Malformed(fmt::format("{} in sector {}: the magic is missing", what, sector));
    return raw;
  }
  Bytes fnode_at(std::uint64_t sector) const { return node_at(sector, kSector, kFnodeMagic, "HPFS fnode"); }

  void list_node(std::uint64_t sector, int depth, std::set<std::uint64_t>& seen, const TreeSink& sink) {
    if (depth > kDeepest || !seen.insert(sector).second)
      throw Malformed(
          fmt::format("a folder's tree: the dnode in sector {} is met twice, or too deep", sector));
    Bytes raw = node_at(sector, kDnode, kDnodeMagic, "HPFS dnode");
    for (std::size_t at = Record::first_at;;) {
      if (at + Record::name_at > raw.size())
        throw Malformed(fmt::format("the dnode in sector {}: its last record is missing", sector));
      auto record = read_structure<Record>(raw.data() + at);
      std::size_t needed =
          Record::name_at + record.name_length + ((record.flags & Record::down) != 0 ? 4U : 0U);
      if (record.length < needed || record.length > raw.size() - at)
        throw Malformed(
            fmt::format("the dnode in sector {}: expected a record of {} bytes or more at byte {}, found {}",
                        sector, needed, at, record.length));
      if ((record.flags & Record::down) != 0)
        list_node(load_little<std::uint32_t>(raw.data() + at + record.length - 4), depth + 1, seen, sink);
      if ((record.flags & Record::last) != 0) return;
      if ((record.flags & Record::special) == 0)
        add(record, as_text(ByteView(raw).subspan(at + Record::name_at, record.name_length)), sink);
      at += record.length;
    }
  }

  void add(const Record& record, std::string_view name, const TreeSink& sink) {
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = to_utf8(name, encoding_).value_or(std::string(name));
    item.ref = {record.fnode};
    entry.kind = (record.attributes & Record::folder) != 0 ? EntryKind::folder : EntryKind::file;
    if (entry.kind == EntryKind::file) entry.size = entry.stored_size = record.file_size;
    entry.modified = time_of(record.write_date);
    EntryExtra& extra = entry.extras();
    extra.accessed = time_of(record.read_date);
    extra.created = time_of(record.creation_date);
    add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one); });
  }

  /// What other systems keep in extended attributes.
  void fill(TreeItem& item) const {
    Bytes raw = fnode_at(item.ref.a);
    auto fnode = read_structure<Fnode>(raw.data());
    constexpr std::size_t kHead = size_on_disk<AttributeHead>;
    if (fnode.ea_at < kHead || fnode.ea_at > raw.size()) return;
    ByteView rest =
        ByteView(raw).subspan(fnode.ea_at, std::min<std::size_t>(fnode.ea_size, raw.size() - fnode.ea_at));
    while (rest.size() > kHead) {
      auto head = read_structure<AttributeHead>(rest.data());
      std::size_t name_length = head.name_length, length = head.value_length,
                  whole = kHead + name_length + 1 + length;
      if (whole > rest.size()) return;
      std::string name(as_text(rest.subspan(kHead, name_length)));
      ByteView value = rest.subspan(kHead + name_length + 1, length);
      if ((head.flags & 3) == 0) take_attribute(item.entry, name, value);  // else it lies elsewhere
      rest = rest.subspan(whole);
    }
  }

  static void take_attribute(Entry& entry, const std::string& name, ByteView value) {
    auto number = [&] {
      return static_cast<std::uint32_t>(load_number(value.data(), value.size(), std::endian::little));
    };
    EntryExtra& extra = entry.extras();
    bool small = !value.empty() && value.size() <= 4;
    if (name == "SYMLINK") {
      entry.kind = EntryKind::symbolic_link;
      extra.link_target = std::string(as_text(value));
    } else if (name == "UID" && small) {
      extra.user_id = number();
    } else if (name == "GID" && small) {
      extra.group_id = number();
    } else if (name == "MODE" && small) {
      entry.mode = number() & 07777;
    } else {
      extra.attributes.emplace_back("user." + name, std::string(as_text(value)));
    }
  }

  /// Adds the runs of a file beneath the head of a tree.
  void gather(ByteView tree, std::size_t room, std::uint64_t size, int depth, std::set<std::uint64_t>& seen,
              std::vector<Extent>& out) const {
    auto head = read_structure<TreeHead>(tree.data());
    bool inner = (head.flags & TreeHead::inner) != 0;
    std::size_t most = inner ? room * TreeHead::run / TreeHead::branch : room;
    if (head.used > most)
      throw Malformed(
          fmt::format("a file's tree: expected n_used_nodes to be at most {}, found {}", most, head.used));
    ByteView rows = tree.subspan(TreeHead::size);
    for (std::size_t i = 0; i < head.used; ++i) {
      if (inner) {
        descend(load_little<std::uint32_t>(rows.data() + i * TreeHead::branch + 4), size, depth, seen, out);
        continue;
      }
      auto run = read_structure<Run>(rows.data() + i * TreeHead::run);
      std::uint64_t at = run.file_sector * kSector, length = run.length * kSector;
      if (at >= size || length == 0) continue;
      add_extent(out, {at, place(run.disk_sector, run.length), std::min(length, size - at)});
    }
  }

  void descend(std::uint64_t sector, std::uint64_t size, int depth, std::set<std::uint64_t>& seen,
               std::vector<Extent>& out) const {
    constexpr std::size_t kRoom = 40;
    if (depth > kDeepest || !seen.insert(sector).second)
      throw Malformed(fmt::format("a file's tree: the anode in sector {} is met twice, or too deep", sector));
    Bytes raw = node_at(sector, kSector, kAnodeMagic, "HPFS anode");
    gather(ByteView(raw).subspan(kAnodeTreeAt), kRoom, size, depth + 1, seen, out);
  }

  SourcePtr image_, meta_;
  std::string encoding_;
  Superblock super_;
};

Match recognise_hpfs(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, kSector);
  return raw.size() == kSector && is_super(raw) ? Match::front : Match::none;
}

ContainerPtr open_hpfs(const Input& input, OpenContext& context) {
  return std::make_shared<HpfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format hpfs_format() {
  return {.id = "hpfs",
          .name = "HPFS file system",
          .family = "file system",
          .specification =
              "R. Duncan, Design goals and implementation of the new High Performance File System; Linux "
              "fs/hpfs/hpfs.h",
          .reads = "folders and files of all sizes, times, extended attributes that lie in the fnode",
          .lacks = "extended attributes in sectors of their own, access control lists of HPFS386",
          .suffixes = {},
          .recognise = recognise_hpfs,
          .open = open_hpfs,
          .records = {record_at<Superblock>("superblock", kSuperAt),
                      record_at<SpareBlock>("spare block", kSpareAt)}};
}

}  // namespace operculum
