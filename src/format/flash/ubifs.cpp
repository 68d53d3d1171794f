// UBIFS volumes as they lie in UBI, or by themselves as their maker writes them.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "base/units.h"
#include "codec/block.h"
#include "container/record_fields.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/flash/formats.h"
#include "format/flash/ubifs_index.h"
#include "io/block_content.h"
#include "io/cached_source.h"

namespace operculum {
namespace {

using namespace ubifs;

constexpr std::uint32_t kRoot = 1;
constexpr std::uint64_t kBlockSize = data_block_size;
constexpr std::uint64_t kMostBlocks = std::uint64_t{1} << 28;
constexpr std::uint32_t kEncryptedFlag = 0x40;

struct Packing {
  std::string_view name;
  BlockCodec codec;
};
constexpr Packing kPackings[] = {{"stored", BlockCodec::stored},
                                 {"lzo", BlockCodec::lzo},
                                 {"deflate", BlockCodec::deflate},
                                 {"zstd", BlockCodec::zstd}};

std::string_view packing_name(std::uint16_t packing) {
  return packing < std::size(kPackings) ? kPackings[packing].name : "unknown";
}

struct Inode {
  std::uint64_t size = 0;
  std::int64_t modified = 0;
  std::uint32_t nanoseconds = 0, links = 0, uid = 0, gid = 0, mode = 0, flags = 0;
  Bytes inline_data;
};

class UbifsContainer final : public FileTree {
 public:
  UbifsContainer(const SourcePtr& volume, OpenContext& context)
      : FileTree(context.limits), volume_(make_cached(volume)), index_(read_index(*volume_)) {
    for (const std::string& one : index_.faults) add_finding(Finding::Level::fault, one);
    if (index_.super.authenticated())
      add_finding(Finding::Level::note, "it is authenticated; its hashes are not compared");
    if (index_.replayed > 0)
      add_finding(Finding::Level::note,
                  fmt::format("{} changes since the last commit were taken from the journal",
                              grouped(index_.replayed)));
  }

  Facts facts() override {
    const SuperNode& s = index_.super;
    return {{"uuid", uuid_text(s.uuid)},
            {"block", size_fact(s.leb_size)},
            {"format version", std::to_string(s.format_version)},
            {"packed by", std::string(packing_name(s.default_packing))}};
  }

 protected:
  NodeRef root() override { return {kRoot}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    auto found = index_.folders.find(static_cast<std::uint32_t>(folder.a));
    if (found == index_.folders.end()) return;
    for (const auto& [name, one] : found->second) row(name, one, sink);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    auto number = static_cast<std::uint32_t>(ref.a);
    Inode inode = read_inode(number);
    if ((inode.flags & kEncryptedFlag) != 0) throw Unsupported("encrypted files of UBIFS (fscrypt)");
    std::uint64_t count = (inode.size + kBlockSize - 1) / kBlockSize;
    if (count > kMostBlocks) throw LimitExceeded("a file of more than 1 TiB in UBIFS");
    std::vector<Block> blocks;
    std::uint64_t done = 0;
    auto hole_to = [&](std::uint64_t end) {
      if (end > done) blocks.push_back({done, end - done, 0, 0, 0, true});
      done = std::max(done, end);
    };
    if (auto data = index_.data.find(number); data != index_.data.end()) {
      for (const auto& [block, place] : data->second) {
        std::uint64_t begin = block * kBlockSize;
        if (begin >= inode.size) break;
        hole_to(begin);
        done = std::min(begin + kBlockSize, inode.size);
        blocks.push_back({begin, done - begin, place.at, place.length, 0, false});
      }
    }
    hole_to(inode.size);
    if (blocks.empty()) return make_content(make_memory_source({}));
    auto self = shared_from_this();
    return make_block_content(std::move(blocks),
                              [this, self](const Block& block, ByteSpan out) { decode(block, out); });
  }

 private:
  void decode(const Block& block, ByteSpan out) const {
    if (block.hole) return std::fill(out.begin(), out.end(), Byte{0});
    Bytes raw = read_node(*volume_, {block.stored_offset, static_cast<std::uint32_t>(block.stored_size)});
    LittleFields f(raw, "UBIFS data", block.stored_offset);
    auto [size, packing, packed_size] = structure_at<DataNode>(f, 0);
    if (size > kBlockSize)
      throw Malformed(fmt::format("UBIFS data at offset {}: a block of {} bytes", block.stored_offset, size));
    if (packing >= std::size(kPackings))
      throw Unsupported(fmt::format("UBIFS data packed by method {}", packing));
    Bytes plain(kBlockSize);
    std::size_t count = decode_block(kPackings[packing].codec, ByteView(raw).subspan(size_on_disk<DataNode>),
                                     ByteSpan(plain).first(size));
    if (count != size)
      throw Malformed(fmt::format("UBIFS data at offset {}: {} bytes came out, {} are stated",
                                  block.stored_offset, count, size));
    std::copy_n(plain.begin(), out.size(),
                out.begin());  // a last block may be longer in memory than in the file
  }

  Inode read_inode(std::uint32_t number) const {
    auto found = index_.inodes.find(number);
    if (found == index_.inodes.end()) throw Malformed(fmt::format("UBIFS: inode {} is missing", number));
    Bytes raw = read_node(*volume_, found->second);
    LittleFields f(raw, "UBIFS inode", found->second.at);
    auto node = structure_at<InodeNode>(f, 0);
    Inode out;
    out.size = node.size;
    out.modified = static_cast<std::int64_t>(node.modified);
    out.nanoseconds = node.nanoseconds;
    out.links = node.links;
    out.uid = node.uid;
    out.gid = node.gid;
    out.mode = node.mode;
    out.flags = node.flags;
    ByteView data = f.bytes(inode_node_size, node.data_length);
    out.inline_data.assign(data.begin(), data.end());
    return out;
  }

  void row(const std::string& name, const Name& one, const TreeSink& sink) {
    static constexpr EntryKind kKinds[] = {
        EntryKind::file,         EntryKind::folder,           EntryKind::symbolic_link,
        EntryKind::block_device, EntryKind::character_device, EntryKind::fifo,
        EntryKind::socket};
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = name;
    auto number = static_cast<std::uint32_t>(one.inode);
    item.ref = {number};
    if (one.type < std::size(kKinds)) entry.kind = kKinds[one.type];
    Inode inode;
    try {
      inode = read_inode(number);
    } catch (const Malformed& error) {
      return add_damaged(std::move(item), error.what(), sink);
    }
    entry.kind = kind_of_mode(inode.mode);
    entry.mode = inode.mode & 07777;
    entry.modified = from_unix(inode.modified);
    entry.extras().user_id = inode.uid;
    entry.extras().group_id = inode.gid;
    if (entry.kind == EntryKind::file) {
      fill_file(item, inode, number);
    } else if (entry.kind == EntryKind::symbolic_link) {
      entry.extras().link_target = as_text(inode.inline_data);
    } else if ((entry.kind == EntryKind::block_device || entry.kind == EntryKind::character_device) &&
               inode.inline_data.size() >= 4) {
      std::uint32_t device = load_little<std::uint32_t>(inode.inline_data.data());
      set_device(entry.extras(), device);
    }
    sink(std::move(item));
  }

  void fill_file(TreeItem& item, const Inode& inode, std::uint32_t number) {
    Entry& entry = item.entry;
    entry.size = inode.size;
    entry.stored_size = 0;
    entry.flags |= Entry::has_sum;
    if ((inode.flags & kEncryptedFlag) != 0) entry.flags |= Entry::encrypted;
    if (inode.links > 1) item.link_id = number;
    auto data = index_.data.find(number);
    if (data == index_.data.end()) return;
    for (const auto& [block, place] : data->second) entry.stored_size += place.length;
    if (data->second.empty()) return;
    Bytes head = read_up_to(*volume_, data->second.begin()->second.at, size_on_disk<DataNode>);
    if (head.size() == size_on_disk<DataNode>)
      entry.method = packing_name(read_structure<DataNode>(head.data()).packing);
  }

  SourcePtr volume_;
  Index index_;
};

Match recognise_ubifs(Probe& probe) {
  return begins_volume(probe.head(common_size)) ? Match::front : Match::none;
}

ContainerPtr open_ubifs(const Input& input, OpenContext& context) {
  return std::make_shared<UbifsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format ubifs_format() {
  return {.id = "ubifs",
          .name = "UBIFS file system",
          .family = "file system",
          .specification = "Linux kernel, fs/ubifs/ubifs-media.h (formats 4 and 5)",
          .reads =
              "LZO, deflate (zlib) and zstd; all inode kinds; hard links; changes in the journal; checksums "
              "of all nodes",
          .lacks = "encrypted files, extended attributes",
          .suffixes = {".ubifs"},
          .recognise = recognise_ubifs,
          .open = open_ubifs,
          .records = {record_at<CommonHeader>("first node", 0), record_at<SuperNode>("superblock", 0)}};
}

}  // namespace operculum
