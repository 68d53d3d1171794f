// The QNX 4 file system, after the structures that the Linux kernel publishes (include/uapi/linux/qnx4_fs.h).
// Numbers are little-endian, blocks of 512 bytes count from 1.
//
// The second block holds the root folder's inode. A folder is a file of records of 64 bytes: an inode with a
// name of up to 16 bytes in it, or a link, a name of up to 48 bytes and where the inode is. An inode has one
// run of blocks; what more there are stand in a chain of blocks.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/structure.h"
#include "base/text.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/indirect_blocks.h"
#include "format/filesystem/inode_entry.h"
#include "io/cached_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::uint64_t kBlock = 512, kRecord = 64, kLargestFolder = 64 << 20;
constexpr std::uint8_t kUsed = 0x01, kLink = 0x08;  // QNX4_FILE_...

struct Record {
  std::array<Byte, 16> name{};
  std::uint32_t size = 0, first_block = 0, first_length = 0, more = 0, ftime = 0, mtime = 0, atime = 0,
                ctime = 0;
  std::uint16_t runs = 0, mode = 0, uid = 0, gid = 0, links = 0;
  std::uint8_t status = 0;
  static constexpr auto layout = little_endian(
      field("di_fname", &Record::name), field("di_size", &Record::size),
      field("di_first_xtnt.xtnt_blk", &Record::first_block),
      field("di_first_xtnt.xtnt_size", &Record::first_length), field("di_xblk", &Record::more),
      field("di_ftime", &Record::ftime), field("di_mtime", &Record::mtime), field("di_atime", &Record::atime),
      field("di_ctime", &Record::ctime), field("di_num_xtnts", &Record::runs),
      field("di_mode", &Record::mode), field("di_uid", &Record::uid), field("di_gid", &Record::gid),
      field("di_nlink", &Record::links), from_byte<63>(), field("di_status", &Record::status));
};

struct LinkRecord {
  std::array<Byte, 48> name{};
  std::uint32_t block = 0;
  std::uint8_t index = 0;
  static constexpr auto layout =
      little_endian(field("dl_fname", &LinkRecord::name), field("dl_inode_blk", &LinkRecord::block),
                    field("dl_inode_ndx", &LinkRecord::index));
};

/// A block with further runs of a file.
struct RunBlock {
  std::uint32_t next = 0;
  std::uint8_t count = 0;
  std::array<Byte, 7> signature{};
  static constexpr std::string_view mark = "IamXblk";
  static constexpr std::size_t runs_at = 16, most = 60;
  static constexpr auto layout = little_endian(field("xblk_next_xblk", &RunBlock::next), from_byte<8>(),
                                               field("xblk_num_xtnts", &RunBlock::count), from_byte<496>(),
                                               field("xblk_signature", &RunBlock::signature));
};

bool is_root(ByteView block) {
  auto root = read_structure<Record>(block.data());
  return root.name[0] == '/' && root.name[1] == 0 && kind_of_mode(root.mode) == EntryKind::folder &&
         root.first_block > 0 && root.runs > 0;
}

class Qnx4Container final : public FileTree {
 public:
  Qnx4Container(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    if (!is_root(read_exactly(*meta_, kBlock, kBlock, "QNX 4 root block")))
      throw Malformed("QNX 4 root block: the root folder's name and mode are missing");
  }

  Facts facts() override {
    return {{"capacity", size_fact(image_->size())}, {"block", fmt::format("{} bytes", kBlock)}};
  }

 protected:
  NodeRef root() override { return {kBlock}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Record inode = record_at(folder.a);
    if (kind_of_mode(inode.mode) != EntryKind::folder)
      throw Malformed(fmt::format("the inode at offset {} is no folder", folder.a));
    if (inode.size > kLargestFolder)
      throw Malformed(
          fmt::format("the inode at offset {}: a folder of {} bytes is not possible", folder.a, inode.size));
    std::vector<Extent> extents = extents_of(inode);
    for (const Extent& run : extents) {
      for (std::uint64_t at = run.stored; at < run.stored + run.length; at += kRecord) add(at, sink);
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return make_content(data_of(record_at(ref.a))); }

 private:
  Record record_at(std::uint64_t at) const {
    return read_structure<Record>(read_exactly(*meta_, at, kRecord, "QNX 4 inode").data());
  }

  std::uint64_t place(std::uint64_t block) const {
    if (block == 0 || (block - 1) * kBlock >= image_->size())
      throw Malformed(fmt::format("block {} lies outside of the image", block));
    return (block - 1) * kBlock;
  }

  void add(std::uint64_t at, const TreeSink& sink) {
    Bytes raw = read_exactly(*meta_, at, kRecord, "QNX 4 folder");
    std::uint8_t status = raw.back();
    if (raw[0] == 0 || (status & (kUsed | kLink)) == 0) return;
    bool link = (status & kLink) != 0;
    constexpr std::size_t kShort = 16, kLong = 48;
    std::string_view name = until_zero(as_text(ByteView(raw).first(link ? kLong : kShort)));
    if (name == "." || name == ".." || name == "/") return;
    TreeItem item;
    item.entry.path = std::string(name);
    item.ref = {at};
    add_filled(std::move(item), sink, [&](TreeItem& one) {
      if (link) {
        auto own = read_structure<LinkRecord>(raw.data());
        one.ref = {place(own.block) + own.index * kRecord};
      }
      fill(one, record_at(one.ref.a));
    });
  }

  std::vector<Extent> extents_of(const Record& inode) const {
    std::vector<Extent> out;
    std::uint64_t done = 0;
    auto take = [&](std::uint64_t block, std::uint64_t count) {
      std::uint64_t length = std::min(count * kBlock, inode.size - done);
      if (length > 0) add_extent(out, {done, place(block), length});
      done += length;
    };
    take(inode.first_block == 0 ? 1 : inode.first_block, inode.first_block == 0 ? 0 : inode.first_length);
    std::set<std::uint64_t> seen;
    for (std::uint64_t next = inode.more; done < inode.size && next != 0;) {
      if (!seen.insert(next).second) break;
      Bytes raw = read_exactly(*meta_, place(next), kBlock, "QNX 4 runs");
      auto head = read_structure<RunBlock>(raw.data());
      if (as_text(head.signature) != RunBlock::mark || head.count > RunBlock::most)
        throw Malformed(fmt::format("block {} holds no runs of a file: its signature is missing", next));
      for (std::size_t i = 0; i < head.count && done < inode.size; ++i) {
        const Byte* run = raw.data() + RunBlock::runs_at + i * 8;
        take(load_little<std::uint32_t>(run), load_little<std::uint32_t>(run + 4));
      }
      next = head.next;
    }
    if (done < inode.size)
      throw Malformed(fmt::format("a file's runs: expected {} bytes, found {}", inode.size, done));
    return out;
  }

  SourcePtr data_of(const Record& inode) const {
    return make_extent_source(image_, extents_of(inode), inode.size);
  }

  void fill(TreeItem& item, const Record& inode) const {
    Entry& entry = item.entry;
    InodeFacts facts{inode.mode,
                     inode.uid,
                     inode.gid,
                     from_unix(inode.mtime),
                     from_unix(inode.atime),
                     from_unix(inode.ctime),
                     from_unix(inode.ftime)};
    EntryExtra& extra = take_inode(entry, facts);
    if (entry.kind == EntryKind::file) {
      entry.size = entry.stored_size = inode.size;
      if (inode.links > 1) item.link_id = item.ref.a;
    }
    if (entry.kind == EntryKind::symbolic_link) extra.link_target = link_target_in(*data_of(inode));
  }

  SourcePtr image_, meta_;
};

Match recognise_qnx4(Probe& probe) {
  Bytes block = probe.at(kBlock, kBlock);
  return block.size() == kBlock && is_root(block) ? Match::front : Match::none;
}

ContainerPtr open_qnx4(const Input& input, OpenContext& context) {
  return std::make_shared<Qnx4Container>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format qnx4_format() {
  return {.id = "qnx4",
          .name = "QNX 4 file system",
          .family = "file system",
          .specification = "Linux kernel, include/uapi/linux/qnx4_fs.h",
          .reads = "all files with their runs, links, owners, modes and times",
          .lacks = "",
          .suffixes = {},
          .recognise = recognise_qnx4,
          .open = open_qnx4};
}

}  // namespace operculum
