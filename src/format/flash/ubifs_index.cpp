// The index of UBIFS (Linux kernel, fs/ubifs/ubifs-media.h): a superblock in block 0, two copies of a log of
// master nodes in blocks 1 and 2, from whose last one the root of a B+ tree is reached; the leaves are
// inodes, names and data. What was written since the last commit is in the journal, which the log lists.
// Little-endian; sums are CRC-32 without the inversion at the end.
#include "format/flash/ubifs_index.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/depth_guard.h"
#include "base/error.h"
#include "base/structure_fields.h"
#include "io/cached_source.h"

namespace operculum::ubifs {
namespace {

constexpr std::uint32_t kLongestNode = 1 << 20;
constexpr int kDeepest = 64;
constexpr std::uint64_t kMostLeaves = 8 << 20, kSmallVolume = 64 << 20;
constexpr std::uint32_t kMasterFirst = 1, kMasterLast = 2, kLogFirst = 3;
/// The common header of a node that may begin here.
std::optional<CommonHeader> common_of(ByteView raw) {
  if (raw.size() < common_size) return std::nullopt;
  auto out = read_structure<CommonHeader>(raw.data());
  bool sensible = out.magic == kNodeMagic && out.length >= common_size && out.length <= kLongestNode;
  return sensible ? std::optional(out) : std::nullopt;
}

/// What follows the common header of inodes, names and data.
Key key_of(const LittleFields& node) {
  return structure_at<Key>(node, common_size);
}

class Reader {
 public:
  explicit Reader(const Source& volume) : volume_(volume) {}

  Index read() {
    read_super();
    read_master();
    read_branch(root_, 0);
    replay();
    return std::move(out_);
  }

 private:
  std::uint64_t place(std::uint32_t block, std::uint32_t offset) const {
    return std::uint64_t{block} * out_.super.leb_size + offset;
  }

  void read_super() {
    Bytes head = read_up_to(volume_, 0, common_size);
    auto common = common_of(head);
    if (!common || common->node_type != super) throw Malformed("UBIFS: there is no superblock at the front");
    Bytes raw = read_node(volume_, {0, common->length});
    LittleFields f(raw, "UBIFS superblock");
    auto node = structure_at<SuperNode>(f, 0);
    out_.super = node;
    if (node.key_hash > 1 || node.key_format != 0)
      throw Unsupported(fmt::format("UBIFS with keys of form {}", node.key_format));
    if (node.leb_size < 4096 || node.leb_size > 16 << 20 || node.min_io_size == 0 || node.leb_size % 8 != 0)
      throw Malformed(fmt::format("UBIFS superblock: blocks of {} bytes", node.leb_size));
  }

  /// Visits the nodes of a block in order; ends where nothing sound follows.
  template <typename Visit>
  void each_node(std::uint32_t block, std::uint32_t offset, const Visit& visit) const {
    std::uint64_t begin = place(block, 0);
    Bytes all = read_up_to(volume_, begin, out_.super.leb_size);
    for (std::size_t at = offset; at + common_size <= all.size();) {
      auto common = common_of(ByteView(all).subspan(at));
      if (!common || at + common->length > all.size()) {
        // Between writes a page is filled up; behind the last one comes erased flash.
        std::size_t next = (at / out_.super.min_io_size + 1) * out_.super.min_io_size;
        if (next + common_size > all.size() || all[at] == 0xFF) return;
        at = next;
        continue;
      }
      ByteView node = ByteView(all).subspan(at, common->length);
      if (crc32_plain(~0U, node.subspan(node_crc_end)) == common->crc &&
          !visit(*common, node, NodePlace{begin + at, common->length}))
        return;
      std::size_t step = (std::size_t{common->length} + 7) / 8 * 8;
      if (common->node_type == padding && node.size() >= size_on_disk<PaddingNode>)
        step += read_structure<PaddingNode>(node.data()).length;
      at += step;
    }
  }

  void read_master() {
    std::optional<std::uint64_t> newest;
    for (std::uint32_t block = kMasterFirst; block <= kMasterLast; ++block) {
      each_node(block, 0, [&](const CommonHeader& common, ByteView raw, const NodePlace&) {
        if (common.node_type != master || (newest && *newest >= common.sequence)) return true;
        auto node = structure_in<MasterNode>(raw, "UBIFS master node");
        newest = common.sequence;
        commit_ = node.commit;
        log_ = node.log_block;
        root_ = {place(node.root_block, node.root_offset), node.root_length};
        return true;
      });
    }
    if (!newest) throw Malformed("UBIFS: there is no sound master node");
  }

  void fault(std::string what) {
    constexpr std::size_t kTold = 20;
    if (out_.faults.size() < kTold) out_.faults.push_back(std::move(what));
  }

  // ---- the tree

  void read_branch(const NodePlace& at, int depth) {
    if (depth >= kDeepest || !seen_.insert(at.at).second)
      return fault(fmt::format("the index node at offset {} leads back to itself", at.at));
    Bytes raw;
    try {
      raw = read_node(volume_, at);
    } catch (const Malformed& error) {
      return fault(fmt::format("a part of the index is damaged: {}", error.what()));
    }
    constexpr std::size_t head_size = size_on_disk<IndexNode>, branch_size = size_on_disk<Branch>;
    if (read_structure<CommonHeader>(raw.data()).node_type != index || raw.size() < head_size)
      return fault(fmt::format("the node at offset {} is not of the index", at.at));
    LittleFields f(raw, "UBIFS index node", at.at);
    auto node = structure_at<IndexNode>(f, 0);
    std::size_t count = node.child_count;
    if (count == 0) return;
    std::size_t row = (raw.size() - head_size) / count;
    if (row < branch_size + size_on_disk<Key>)
      return fault(fmt::format("the index node at offset {} is too short for its {} branches", at.at, count));
    for (std::size_t i = 0; i < count; ++i) {
      std::size_t begin = head_size + i * row;
      auto branch = structure_at<Branch>(f, begin);
      NodePlace child{place(branch.block, branch.offset), branch.length};
      if (node.level > 0) {
        read_branch(child, depth + 1);
      } else {
        leaf(structure_at<Key>(f, begin + branch_size), child);
      }
    }
  }

  /// What is read again and again is no tree of a file system.
  void count_read(std::uint64_t bytes) {
    read_ += bytes;
    if (read_ > 8 * volume_.size() + kSmallVolume)
      throw LimitExceeded("UBIFS: its index leads to the same nodes again and again");
  }

  void leaf(const Key& key, const NodePlace& at) {
    if (++leaves_ > kMostLeaves) throw LimitExceeded("UBIFS: more than 8 million inodes, names and blocks");
    if (key.type() == inode_key) {
      out_.inodes[key.inode] = at;
    } else if (key.type() == data_key) {
      out_.data[key.inode][key.rest()] = at;
    } else if (key.type() == name_key) {
      count_read(at.length);
      try {
        add_name(read_node(volume_, at));
      } catch (const Malformed& error) {
        fault(fmt::format("a name in the folder with inode {} is damaged: {}", key.inode, error.what()));
      }
    }
  }

  void add_name(ByteView raw) {
    LittleFields f(raw, "UBIFS name");
    auto node = structure_at<NameNode>(f, 0);
    std::string text(f.text(name_node_size, node.length));
    auto& folder = out_.folders[key_of(f).inode];
    if (node.inode == 0) {
      folder.erase(text);
    } else {
      folder[text] = {node.inode, node.type};
    }
  }

  // ---- the journal

  struct Logged {
    std::uint64_t sequence = 0;
    std::uint8_t type = 0;
    NodePlace at;
  };

  void replay() {
    std::vector<Logged> nodes;
    bool begun = false, ended = false;
    std::set<std::pair<std::uint32_t, std::uint32_t>> buds;
    std::uint32_t logs = std::min<std::uint32_t>(out_.super.log_lebs, 4096);
    for (std::uint32_t i = 0; i < logs && !ended; ++i) {
      std::uint32_t block = kLogFirst + (log_ - kLogFirst + i) % logs;
      each_node(block, 0, [&](const CommonHeader& common, ByteView raw, const NodePlace&) {
        LittleFields f(raw, "UBIFS log");
        if (common.node_type == commit_start) {
          if (structure_at<CommitStart>(f, 0).commit != commit_) {
            ended = begun;
            return !ended;
          }
          begun = true;
        } else if (common.node_type == reference && begun) {
          auto bud = structure_at<Reference>(f, 0);
          buds.insert({bud.block, bud.offset});
        }
        return true;
      });
      if (!begun) break;
    }
    for (auto [block, offset] : buds) {
      count_read(out_.super.leb_size);
      each_node(block, offset, [&](const CommonHeader& common, ByteView, const NodePlace& at) {
        if (common.node_type <= truncation && common.node_type != extended)
          nodes.push_back({common.sequence, common.node_type, at});
        return true;
      });
    }
    std::sort(nodes.begin(), nodes.end(),
              [](const Logged& a, const Logged& b) { return a.sequence < b.sequence; });
    for (const Logged& one : nodes) apply(one);
    out_.replayed = nodes.size();
  }

  void apply(const Logged& one) {
    Bytes raw = read_node(volume_, one.at);
    LittleFields f(raw, "UBIFS journal");
    if (one.type == name) return add_name(raw);
    if (one.type == truncation) return truncate(structure_at<TruncationNode>(f, 0));
    Key key = key_of(f);
    if (one.type == data) {
      out_.data[key.inode][key.rest()] = one.at;
    } else if (structure_at<InodeNode>(f, 0).links == 0) {  // no name is left
      out_.inodes.erase(key.inode);
      out_.data.erase(key.inode);
    } else {
      out_.inodes[key.inode] = one.at;
    }
  }

  void truncate(const TruncationNode& node) {
    auto found = out_.data.find(node.inode);
    if (found == out_.data.end()) return;
    std::uint64_t first_gone =
        node.new_size / data_block_size + (node.new_size % data_block_size != 0 ? 1 : 0);
    found->second.erase(found->second.lower_bound(static_cast<std::uint32_t>(first_gone)),
                        found->second.end());
  }

  const Source& volume_;
  Index out_;
  std::uint64_t commit_ = 0;
  std::uint32_t log_ = 0;
  NodePlace root_;
  std::set<std::uint64_t> seen_;
  std::uint64_t read_ = 0, leaves_ = 0;
};

}  // namespace

bool begins_volume(ByteView front) {
  auto common = common_of(front);
  return common && common->node_type == super && common->length == super_node_size;
}

Bytes read_node(const Source& volume, const NodePlace& place) {
  if (place.length < common_size || place.length > kLongestNode)
    throw Malformed(fmt::format("UBIFS node at offset {}: a length of {} bytes", place.at, place.length));
  Bytes raw = read_exactly(volume, place.at, place.length, "UBIFS node");
  auto common = common_of(raw);
  if (!common || common->length != place.length)
    throw Malformed(
        fmt::format("UBIFS node at offset {}: expected its header with a length of {}, found other bytes",
                    place.at, place.length));
  if (std::uint32_t found = crc32_plain(~0U, ByteView(raw).subspan(node_crc_end));
      !sum_fits(found, common->crc))
    throw Malformed(fmt::format("UBIFS node at offset {}: its checksum is {:08x}, expected {:08x}", place.at,
                                found, common->crc));
  return raw;
}

Index read_index(const Source& volume) {
  return Reader(volume).read();
}

}  // namespace operculum::ubifs
