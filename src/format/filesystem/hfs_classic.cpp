// HFS, the file system before HFS+: after "Inside Macintosh: Files" (Apple, 1992), chapter 2.
//
// Block 2 (of 512 bytes) is the master directory block. Allocation blocks begin at drAlBlSt. Two B-trees of
// 512-byte nodes hold the catalog (key: parent and name) and the extents that do not fit a file's record
// (key: fork, file, block).
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/structure_fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/hfs_volume.h"
#include "format/filesystem/indirect_blocks.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

using hfs::MasterBlock;

constexpr std::uint64_t kMasterAt = hfs::header_at, kSector = 512;
constexpr std::uint32_t kClassicRoot = 2, kExtentsFile = 3, kCatalogFile = 4;
constexpr std::size_t kNode = 512, kExtents = 12;
constexpr std::uint8_t kClassicFolder = 1, kClassicFile = 2;

/// In NodeRef::b: the resource fork is meant.
constexpr std::uint64_t kResourceFork = 1;

/// cdrFilRec, what is of use here.
struct FileRecord {
  std::uint8_t flags = 0;
  std::array<Byte, 4> type = {}, creator = {};
  std::uint32_t number = 0, size = 0, resource_size = 0, made = 0, modified = 0;
  std::array<Byte, kExtents> extents = {}, resource_extents = {};
  static constexpr auto layout = big_endian(
      from_byte<2>(), field("filFlags", &FileRecord::flags), from_byte<4>(),
      field("filUsrWds.fdType", &FileRecord::type), field("filUsrWds.fdCreator", &FileRecord::creator),
      from_byte<20>(), field("filFlNum", &FileRecord::number), from_byte<26>(),
      field("filLgLen", &FileRecord::size), from_byte<36>(), field("filRLgLen", &FileRecord::resource_size),
      from_byte<44>(), field("filCrDat", &FileRecord::made), field("filMdDat", &FileRecord::modified),
      from_byte<74>(), field("filExtRec", &FileRecord::extents),
      field("filRExtRec", &FileRecord::resource_extents));
};

/// cdrDirRec.
struct FolderRecord {
  std::uint32_t number = 0, made = 0, modified = 0;
  static constexpr auto layout =
      big_endian(from_byte<6>(), field("dirDirID", &FolderRecord::number),
                 field("dirCrDat", &FolderRecord::made), field("dirMdDat", &FolderRecord::modified));
};

/// ExtDescriptor, of which a record has three.
struct ClassicExtent {
  std::uint16_t start = 0, count = 0;
  static constexpr auto layout =
      big_endian(field("xdrStABN", &ClassicExtent::start), field("xdrNumABlks", &ClassicExtent::count));
};

/// ExtKeyRec, behind its length.
struct ClassicExtentKey {
  std::uint8_t fork = 0;
  std::uint32_t file = 0;
  std::uint16_t block = 0;
  static constexpr auto layout =
      big_endian(field("xkrFkType", &ClassicExtentKey::fork), field("xkrFNum", &ClassicExtentKey::file),
                 field("xkrFABN", &ClassicExtentKey::block));
};

/// CatKeyRec, behind its length; the name follows.
struct ClassicCatalogKey {
  std::uint8_t reserved = 0;
  std::uint32_t parent = 0;
  std::uint8_t name_length = 0;
  static constexpr auto layout = big_endian(field("ckrResrv1", &ClassicCatalogKey::reserved),
                                            field("ckrParID", &ClassicCatalogKey::parent),
                                            field("ckrCName", &ClassicCatalogKey::name_length));
};

MasterBlock read_master(ByteView raw) {
  if (raw.size() < size_on_disk<MasterBlock>)
    throw CutShort("HFS master directory block: the image is cut short");
  MasterBlock m = read_structure<MasterBlock>(raw.data());
  if (m.magic != hfs::kClassicSignature) throw Malformed("HFS master directory block: the magic is missing");
  if (m.block_size == 0 || m.block_size % kSector != 0)
    refuse_field("HFS master directory block", kMasterAt, &MasterBlock::block_size, "a multiple of 512",
                 fmt::format("{}", m.block_size));
  if (m.blocks == 0 || m.name[0] > 27)
    refuse_field("HFS master directory block", kMasterAt, &MasterBlock::blocks, "1 or more",
                 fmt::format("{}", m.blocks));
  return m;
}

/// Times are of the clock on the wall, without a zone.
Timestamp local_time(std::uint32_t seconds) {
  Timestamp out = hfs::time_of(seconds);
  out.floating = out.known();
  return out;
}

std::string name_of(ByteView stored, const std::string& encoding) {
  std::string name = to_utf8(as_text(stored), encoding).value_or(std::string(as_text(stored)));
  std::replace(name.begin(), name.end(), '/', ':');  // as the system shows it
  return name;
}

class HfsClassic final : public FileTree {
 public:
  HfsClassic(SourcePtr image, OpenContext& context)
      : FileTree(context.limits),
        image_(std::move(image)),
        meta_(make_cached(image_)),
        encoding_(context.names_in.empty() ? "MACINTOSH" : context.names_in) {
    master_ = read_master(read_up_to(*image_, kMasterAt, size_on_disk<MasterBlock>));
    // behind the allocation blocks: the copy of the master directory block, and a sector that is not used
    compare_sizes(*this, image_->size(), place_of(master_.blocks) + 2 * kSector);
    constexpr std::uint16_t kUnmounted = 0x100;
    if ((master_.attributes & kUnmounted) == 0)
      add_finding(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
    read_overflow();
    read_catalog();
  }

  Facts facts() override {
    std::uint64_t all = std::uint64_t{master_.blocks} * master_.block_size,
                  free = std::min<std::uint64_t>(master_.free_blocks, master_.blocks) * master_.block_size;
    return {{"label", escape(name_of(ByteView(master_.name).subspan(1, master_.name[0]), encoding_))},
            {"capacity", size_fact(all)},
            {"used", size_fact(all - free)},
            {"free", size_fact(free)},
            {"block", fmt::format("{} bytes", master_.block_size)},
            {"made", to_text(local_time(master_.made))}};
  }

 protected:
  NodeRef root() override { return {kClassicRoot}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    auto found = folders_.find(static_cast<std::uint32_t>(folder.a));
    if (found == folders_.end()) return;
    for (const Row& row : found->second) {
      if (row.data[0] == kClassicFolder) {
        add_folder(row, sink);
      } else {
        add_file(row, sink);
      }
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    auto found = files_.find(static_cast<std::uint32_t>(ref.a));
    if (found == files_.end()) throw Malformed(fmt::format("file {} is not in the catalog", ref.a));
    const FileRecord& file = found->second;
    if (ref.b == kResourceFork)
      return make_content(fork(file.resource_extents, file.resource_size, file.number, true));
    return make_content(fork(file.extents, file.size, file.number, false));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return to_lower(stored) == to_lower(wanted);
  }

 private:
  struct Row {
    std::string name;
    Bytes data;
  };

  std::uint64_t place_of(std::uint64_t block) const {
    return master_.first_block * kSector + block * master_.block_size;
  }

  void add_folder(const Row& row, const TreeSink& sink) {
    TreeItem item;
    item.entry.path = row.name;
    item.entry.kind = EntryKind::folder;
    if (row.data.size() < size_on_disk<FolderRecord>)
      return add_damaged(std::move(item), "its record is cut short", sink);
    FolderRecord folder = read_structure<FolderRecord>(row.data.data());
    item.entry.modified = local_time(folder.modified);
    item.entry.extras().created = local_time(folder.made);
    item.ref = {folder.number};
    sink(std::move(item));
  }

  void add_file(const Row& row, const TreeSink& sink) {
    TreeItem item;
    item.entry.path = row.name;
    if (row.data.size() < size_on_disk<FileRecord>)
      return add_damaged(std::move(item), "its record is cut short", sink);
    FileRecord file = read_structure<FileRecord>(row.data.data());
    item.entry.size = item.entry.stored_size = file.size;
    item.entry.modified = local_time(file.modified);
    EntryExtra& extra = item.entry.extras();
    extra.created = local_time(file.made);
    if (file.type != std::array<Byte, 4>{})
      extra.type_tag = escape(std::string(as_text(file.type)) + " " + std::string(as_text(file.creator)));
    item.ref = {file.number};
    Timestamp modified = item.entry.modified;
    sink(std::move(item));
    if (file.resource_size == 0) return;
    TreeItem resource;
    resource.entry.path = row.name + ":rsrc";
    resource.entry.modified = modified;
    resource.entry.size = resource.entry.stored_size = file.resource_size;
    resource.ref = {file.number, kResourceFork};
    sink(std::move(resource));
  }

  /// Adds three runs of blocks; false when there are no more.
  bool add_runs(ByteView record, std::uint64_t& logical, std::uint64_t size, std::vector<Extent>& out) const {
    BigFields f(record, "HFS extents");
    for (std::size_t i = 0; i < kExtents; i += size_on_disk<ClassicExtent>) {
      auto extent = structure_at<ClassicExtent>(f, i);
      std::uint64_t first = extent.start, count = extent.count;
      if (count == 0 || logical >= size) return false;
      if (first + count > master_.blocks)
        throw Malformed(fmt::format("HFS: blocks {} to {} are not among the volume's {}", first,
                                    first + count, master_.blocks));
      std::uint64_t length = std::min(count * master_.block_size, size - logical);
      add_extent(out, {logical, place_of(first), length});
      logical += count * master_.block_size;
    }
    return logical < size;
  }

  SourcePtr fork(const std::array<Byte, kExtents>& first, std::uint64_t size, std::uint32_t number,
                 bool resource) const {
    std::vector<Extent> out;
    std::uint64_t logical = 0;
    bool more = add_runs(first, logical, size, out);
    while (more) {
      auto next =
          overflow_.find({number, resource, static_cast<std::uint16_t>(logical / master_.block_size)});
      if (next == overflow_.end()) break;
      more = add_runs(next->second, logical, size, out);
    }
    if (logical < size)
      throw Malformed(fmt::format("HFS: file {} has {} bytes, its extents hold {}", number, size, logical));
    return make_extent_source(image_, std::move(out), size);
  }

  /// Calls `take(key, data)` for each record of a tree's leaves, from the first to the last.
  template <typename Take>
  void each_record(const Source& tree, std::string_view what, Take take) {
    Bytes head = read_exactly(tree, 0, kNode, what);
    std::uint64_t next = read_structure<hfs::TreeHeader>(head.data()).first_leaf;
    std::uint64_t left = std::min(tree.size(), image_->size()) / kNode;  // a tree may not have a block twice
    for (; next != 0; --left) {
      if (left == 0) throw Malformed(fmt::format("{}: its nodes form a loop", what));
      Bytes node = read_exactly(tree, next * kNode, kNode, what);
      BigFields f(node, what, next * kNode);
      auto descriptor = structure_at<hfs::NodeDescriptor>(f, 0);
      if (descriptor.kind != hfs::leaf_node)
        throw Malformed(fmt::format("{}: node {} is no leaf", what, next));
      for (std::size_t i = 0; i < descriptor.record_count && (i + 2) * 2 <= kNode; ++i) {
        std::size_t begin = f.u16(kNode - (i + 1) * 2), end = f.u16(kNode - (i + 2) * 2);
        if (begin >= end || end > kNode)
          throw Malformed(fmt::format("{}: record {} of node {} does not fit", what, i, next));
        std::size_t key = f.u8(begin), data = (begin + 1 + key + 1) / 2 * 2;
        if (key == 0 || data >= end) continue;  // removed
        take(BigFields(f.bytes(begin + 1, key), what), f.bytes(data, end - data));
      }
      next = descriptor.next;
    }
  }

  void read_overflow() {
    SourcePtr tree = fork(master_.extents, master_.extents_size, kExtentsFile, false);
    try {
      each_record(*tree, "HFS extents tree", [&](const BigFields& raw_key, ByteView data) {
        if (raw_key.size() < size_on_disk<ClassicExtentKey> || data.size() < kExtents) return;
        auto key = structure_at<ClassicExtentKey>(raw_key, 0);
        std::array<Byte, kExtents> runs;
        std::copy_n(data.begin(), kExtents, runs.begin());
        overflow_[{key.file, key.fork != 0, key.block}] = runs;
      });
    } catch (const Malformed& error) {
      add_finding(Finding::Level::fault, error.what());
    }
  }

  void read_catalog() {
    SourcePtr tree = make_cached(fork(master_.catalog, master_.catalog_size, kCatalogFile, false));
    try {
      each_record(*tree, "HFS catalog", [&](const BigFields& raw_key, ByteView data) {
        if (data[0] != kClassicFolder && data[0] != kClassicFile) return;
        auto key = structure_at<ClassicCatalogKey>(raw_key, 0);
        ByteView name = raw_key.bytes(size_on_disk<ClassicCatalogKey>, key.name_length);
        Row row{name_of(name, encoding_), Bytes(data.begin(), data.end())};
        if (data[0] == kClassicFile && data.size() >= size_on_disk<FileRecord>) {
          FileRecord file = read_structure<FileRecord>(data.data());
          files_[file.number] = file;
        }
        folders_[key.parent].push_back(std::move(row));
      });
    } catch (const Malformed& error) {
      add_finding(Finding::Level::fault, error.what());
    }
  }

  SourcePtr image_, meta_;
  std::string encoding_;
  MasterBlock master_;
  std::map<std::tuple<std::uint32_t, bool, std::uint16_t>, std::array<Byte, kExtents>> overflow_;
  std::map<std::uint32_t, std::vector<Row>> folders_;  // a volume has 65,535 blocks at most, and so few files
  std::map<std::uint32_t, FileRecord> files_;
};

Match recognise_hfs_classic(Probe& probe) {
  Bytes raw = probe.at(kMasterAt, size_on_disk<MasterBlock>);
  if (raw.size() < size_on_disk<MasterBlock> ||
      read_field(&MasterBlock::magic, raw.data()) != hfs::kClassicSignature)
    return Match::none;
  try {
    MasterBlock master = read_master(raw);
    constexpr std::uint16_t kFirst = 3;  // behind the boot blocks and the master directory block
    bool fits = master.embedded != hfs::kPlusSignature && master.first_block >= kFirst &&
                master.catalog_size % kNode == 0 && master.catalog_size != 0;
    return fits ? Match::front : Match::none;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_hfs_classic(const Input& input, OpenContext& context) {
  return std::make_shared<HfsClassic>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format hfs_classic_format() {
  return {.id = "hfs",
          .name = "HFS file system",
          .family = "file system",
          .specification = "Inside Macintosh: Files (Apple, 1992), chapter 2",
          .reads =
              "data and resource forks (as NAME:rsrc), extents overflow, names in Mac OS Roman, types and "
              "creators",
          .lacks = "names in other scripts, the copy of the master directory block",
          .suffixes = {".hfs"},
          .recognise = recognise_hfs_classic,
          .open = open_hfs_classic,
          .records = {record_at<MasterBlock>("master directory block", kMasterAt)}};
}

}  // namespace operculum
