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
#include "base/fields.h"
#include "io/cached_source.h"

namespace operculum::ubifs {
namespace {

constexpr std::uint32_t kMagic = 0x06101831;
constexpr std::size_t kCommon = 24, kKey = 8;
constexpr std::uint32_t kLongestNode = 1 << 20;
constexpr int kDeepest = 64;
constexpr std::uint64_t kMostLeaves = 8 << 20, kSmallVolume = 64 << 20;
constexpr std::uint32_t kMasterFirst = 1, kMasterLast = 2, kLogFirst = 3;
enum NodeType : std::uint8_t {
  inode = 0,
  data = 1,
  name = 2,
  extended = 3,
  truncation = 4,
  padding = 5,
  super = 6,
  master = 7,
  reference = 8,
  index = 9,
  commit_start = 10
};
enum KeyType : std::uint32_t { inode_key = 0, data_key = 1, name_key = 2, extended_key = 3 };

struct Key {
  std::uint32_t inode = 0, type = 0, rest = 0;
};

Key key_of(ByteView raw) {
  std::uint32_t second = load_little<std::uint32_t>(raw.data() + 4);
  return {load_little<std::uint32_t>(raw.data()), second >> 29, second & 0x1FFFFFFF};
}

/// The common header of a node that may begin here.
struct Common {
  std::uint32_t magic = 0, crc = 0, length = 0;
  std::uint64_t sequence = 0;
  std::uint8_t type = 0;
};

std::optional<Common> common_of(ByteView raw) {
  if (raw.size() < kCommon) return std::nullopt;
  LittleFields f(raw, "node");
  Common out{f.u32(0), f.u32(4), f.u32(16), f.u64(8), f.u8(20)};
  return out.magic == kMagic && out.length >= kCommon && out.length <= kLongestNode ? std::optional(out)
                                                                                    : std::nullopt;
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
    Bytes head = read_up_to(volume_, 0, kCommon);
    auto common = common_of(head);
    if (!common || common->type != super) throw Malformed("UBIFS: there is no superblock at the front");
    Bytes raw = read_node(volume_, {0, common->length});
    LittleFields f(raw, "UBIFS superblock");
    Super& s = out_.super;
    s.flags = f.u32(28);
    s.min_io_size = f.u32(32);
    s.leb_size = f.u32(36);
    s.leb_count = f.u32(40);
    s.log_lebs = f.u32(56);
    s.format_version = f.u32(80);
    s.default_packing = f.u16(84);
    ByteView uuid = f.bytes(108, 16);
    std::copy(uuid.begin(), uuid.end(), s.uuid.begin());
    if (f.u8(26) > 1 || f.u8(27) != 0) throw Unsupported(fmt::format("UBIFS with keys of form {}", f.u8(27)));
    if (s.leb_size < 4096 || s.leb_size > 16 << 20 || s.min_io_size == 0 || s.leb_size % 8 != 0)
      throw Malformed(fmt::format("UBIFS superblock: blocks of {} bytes", s.leb_size));
  }

  /// Visits the nodes of a block in order; ends where nothing sound follows.
  template <typename Visit>
  void each_node(std::uint32_t block, std::uint32_t offset, const Visit& visit) const {
    std::uint64_t begin = place(block, 0);
    Bytes all = read_up_to(volume_, begin, out_.super.leb_size);
    for (std::size_t at = offset; at + kCommon <= all.size();) {
      auto common = common_of(ByteView(all).subspan(at));
      if (!common || at + common->length > all.size()) {
        // Between writes a page is filled up; behind the last one comes erased flash.
        std::size_t next = (at / out_.super.min_io_size + 1) * out_.super.min_io_size;
        if (next + kCommon > all.size() || all[at] == 0xFF) return;
        at = next;
        continue;
      }
      ByteView node = ByteView(all).subspan(at, common->length);
      if (crc32_plain(~0U, node.subspan(8)) == common->crc &&
          !visit(*common, node, NodePlace{begin + at, common->length}))
        return;
      std::size_t step = (std::size_t{common->length} + 7) / 8 * 8;
      if (common->type == padding && node.size() >= 28) step += load_little<std::uint32_t>(node.data() + 24);
      at += step;
    }
  }

  void read_master() {
    std::optional<std::uint64_t> newest;
    for (std::uint32_t block = kMasterFirst; block <= kMasterLast; ++block) {
      each_node(block, 0, [&](const Common& common, ByteView raw, const NodePlace&) {
        if (common.type != master || (newest && *newest >= common.sequence)) return true;
        LittleFields f(raw, "UBIFS master node");
        newest = common.sequence;
        commit_ = f.u64(32);
        log_ = f.u32(44);
        root_ = {place(f.u32(48), f.u32(52)), f.u32(56)};
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
    if (raw[20] != index || raw.size() < 28)
      return fault(fmt::format("the node at offset {} is not of the index", at.at));
    LittleFields f(raw, "UBIFS index node", at.at);
    std::size_t count = f.u16(24), level = f.u16(26);
    if (count == 0) return;
    std::size_t row = (raw.size() - 28) / count;  // a hash follows each where they are authenticated
    if (row < 12 + kKey)
      return fault(fmt::format("the index node at offset {} is too short for its {} branches", at.at, count));
    for (std::size_t i = 0; i < count; ++i) {
      std::size_t begin = 28 + i * row;
      NodePlace child{place(f.u32(begin), f.u32(begin + 4)), f.u32(begin + 8)};
      if (level > 0) {
        read_branch(child, depth + 1);
      } else {
        leaf(key_of(f.bytes(begin + 12, kKey)), child);
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
    if (key.type == inode_key) {
      out_.inodes[key.inode] = at;
    } else if (key.type == data_key) {
      out_.data[key.inode][key.rest] = at;
    } else if (key.type == name_key) {
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
    Key key = key_of(f.bytes(24, kKey));
    std::string text(f.text(56, f.u16(50)));
    std::uint64_t target = f.u64(40);
    auto& folder = out_.folders[key.inode];
    if (target == 0) {
      folder.erase(text);
    } else {
      folder[text] = {target, f.u8(49)};
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
      each_node(block, 0, [&](const Common& common, ByteView raw, const NodePlace&) {
        LittleFields f(raw, "UBIFS log");
        if (common.type == commit_start) {
          if (f.u64(24) != commit_) {
            ended = begun;
            return !ended;
          }
          begun = true;
        } else if (common.type == reference && begun) {
          buds.insert({f.u32(24), f.u32(28)});
        }
        return true;
      });
      if (!begun) break;
    }
    for (auto [block, offset] : buds) {
      count_read(out_.super.leb_size);
      each_node(block, offset, [&](const Common& common, ByteView, const NodePlace& at) {
        if (common.type <= truncation && common.type != extended)
          nodes.push_back({common.sequence, common.type, at});
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
    if (one.type == truncation) return truncate(f.u32(24), f.u64(48));
    Key key = key_of(f.bytes(24, kKey));
    if (one.type == data) {
      out_.data[key.inode][key.rest] = one.at;
    } else if (f.u32(92) == 0) {  // no name is left
      out_.inodes.erase(key.inode);
      out_.data.erase(key.inode);
    } else {
      out_.inodes[key.inode] = one.at;
    }
  }

  void truncate(std::uint32_t number, std::uint64_t size) {
    auto found = out_.data.find(number);
    if (found == out_.data.end()) return;
    found->second.erase(found->second.lower_bound(static_cast<std::uint32_t>((size + 4095) / 4096)),
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
  return common && common->type == super && common->length == 4096;
}

Bytes read_node(const Source& volume, const NodePlace& place) {
  if (place.length < kCommon || place.length > kLongestNode)
    throw Malformed(fmt::format("UBIFS node at offset {}: a length of {} bytes", place.at, place.length));
  Bytes raw = read_exactly(volume, place.at, place.length, "UBIFS node");
  auto common = common_of(raw);
  if (!common || common->length != place.length)
    throw Malformed(
        fmt::format("UBIFS node at offset {}: expected its header with a length of {}, found other bytes",
                    place.at, place.length));
  if (std::uint32_t found = crc32_plain(~0U, ByteView(raw).subspan(8)); found != common->crc)
    throw Malformed(fmt::format("UBIFS node at offset {}: its checksum is {:08x}, expected {:08x}", place.at,
                                found, common->crc));
  return raw;
}

Index read_index(const Source& volume) {
  return Reader(volume).read();
}

}  // namespace operculum::ubifs
