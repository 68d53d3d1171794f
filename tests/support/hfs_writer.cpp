#include "support/hfs_writer.h"

#include <algorithm>
#include <map>
#include <stdexcept>
#include <tuple>

#include "support/block_packer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = 4096, kNode = 4096;
constexpr std::uint32_t kFrom1904 = 2082844800;
constexpr std::uint32_t kPrivateFolder = 9000;

struct Record {
  Bytes key;  // without its length
  Bytes data;
};

using Extents = std::vector<std::pair<std::size_t, std::size_t>>;  // first block, count

Bytes name_units(const std::string& name) {
  ByteWriter w;
  w.u16be(name.size());
  for (char c : name) w.u16be(static_cast<unsigned char>(c));
  return w.take();
}

Bytes catalog_key(std::uint32_t parent, const std::string& name) {
  return ByteWriter().u32be(parent).bytes(name_units(name)).take();
}

class Writer {
 public:
  Writer(const SampleTree& tree, const HfsOptions& options) : tree_(tree), options_(options) {}

  Bytes build() {
    std::uint32_t next = 16;
    ids_[""] = 2;
    for (const SampleNode& node : tree_) ids_[node.path] = next++;
    folder("", "shells", 1, {.path = "", .kind = EntryKind::folder});
    if (!options_.hard_link.empty()) {
      folder_record(2, std::string(4, '\0') + "HFS+ Private Data", kPrivateFolder,
                    {.kind = EntryKind::folder}, 1);
    }
    for (const SampleNode& node : tree_) {
      std::uint32_t parent = ids_.at(node.parent());
      if (node.kind == EntryKind::folder) {
        folder_record(parent, node.name(), ids_[node.path], node, children_of(tree_, node.path).size());
      } else if (node.path == options_.hard_link) {
        file_record(parent, node.name(), ids_[node.path], {.path = node.path, .mode = 0100644}, true);
      } else if (node.path == options_.link_of) {
        file_record(parent, node.name(), next++, {.path = node.path, .mode = 0100644}, true);
        file_record(kPrivateFolder, "iNode" + std::to_string(ids_[node.path]), ids_[node.path], node, false);
      } else {
        file_record(parent, node.name(), ids_[node.path], node, false);
      }
    }
    Fork catalog =
        store_tree(catalog_, [](const Record& a, const Record& b) { return key_of(a) < key_of(b); });
    Fork overflow = store_tree(overflow_, [](const Record& a, const Record& b) {
      auto order = [](const Record& r) {
        return std::tuple(Bytes(r.key.begin() + 2, r.key.begin() + 6), r.key[0],
                          Bytes(r.key.begin() + 6, r.key.end()));
      };
      return order(a) < order(b);
    });
    Fork attributes =
        attributes_.empty() ? Fork{} : store_tree(attributes_, [](const Record& a, const Record& b) {
          return Bytes(a.key.begin() + 2, a.key.end()) < Bytes(b.key.begin() + 2, b.key.end());
        });
    return volume(catalog, overflow, attributes);
  }

 private:
  struct Fork {
    std::uint64_t size = 0;
    Extents extents;
  };

  static std::pair<Bytes, std::string> key_of(const Record& r) {
    std::string name;
    for (std::size_t i = 7; i < r.key.size(); i += 2) name += static_cast<char>(std::tolower(r.key[i]));
    return {Bytes(r.key.begin(), r.key.begin() + 4), name};
  }

  Fork store(ByteView data, bool scattered = false) {
    Fork fork{data.size(), {}};
    for (std::size_t at = 0; at < data.size();) {
      std::size_t count = scattered ? kBlock : data.size();
      count = std::min(count, data.size() - at);
      std::size_t blocks = (count + kBlock - 1) / kBlock;
      fork.extents.emplace_back(next_block_, blocks);
      disk_.put(next_block_ * kBlock, data.subspan(at, count));
      next_block_ += blocks + (scattered ? 1 : 0);
      at += count;
    }
    return fork;
  }

  static Bytes fork_bytes(const Fork& fork) {
    ByteWriter w;
    std::size_t total = 0;
    for (auto [first, count] : fork.extents) total += count;
    w.u64be(fork.size).u32be(0).u32be(total);
    for (std::size_t i = 0; i < 8; ++i)
      w.u32be(i < fork.extents.size() ? fork.extents[i].first : 0)
          .u32be(i < fork.extents.size() ? fork.extents[i].second : 0);
    return w.take();
  }

  /// What does not fit into a file's record.
  void overflow(const Fork& fork, std::uint32_t id) {
    std::size_t before = 0;
    for (std::size_t i = 0; i < fork.extents.size(); ++i) {
      if (i >= 8 && i % 8 == 0) {
        ByteWriter data;
        for (std::size_t k = i; k < i + 8; ++k)
          data.u32be(k < fork.extents.size() ? fork.extents[k].first : 0)
              .u32be(k < fork.extents.size() ? fork.extents[k].second : 0);
        overflow_.push_back({ByteWriter().u8(0).u8(0).u32be(id).u32be(before).take(), data.take()});
      }
      before += fork.extents[i].second;
    }
  }

  static void dates_and_rights(ByteWriter& w, const SampleNode& node, unsigned type, std::uint32_t special,
                               unsigned flags) {
    std::uint32_t time = static_cast<std::uint32_t>(node.time + kFrom1904);
    for (int i = 0; i < 4; ++i) w.u32be(time);
    w.u32be(0)
        .u32be(node.user)
        .u32be(node.group)
        .u8(0)
        .u8(flags)
        .u16be(type | node.permissions())
        .u32be(special);
  }

  void folder(const std::string& path, const std::string& name, std::uint32_t parent,
              const SampleNode& node) {
    folder_record(parent, name, ids_[path], node, children_of(tree_, path).size());
  }

  void folder_record(std::uint32_t parent, const std::string& name, std::uint32_t id, const SampleNode& node,
                     std::size_t count) {
    ByteWriter w;
    w.u16be(1).u16be(0).u32be(count).u32be(id);
    dates_and_rights(w, node, 040000, 0, 0);
    w.zeros(16 + 16 + 4 + 4);
    catalog_.push_back({catalog_key(parent, name), w.take()});
    catalog_.push_back(
        {catalog_key(id, ""), ByteWriter().u16be(3).u16be(0).u32be(parent).bytes(name_units(name)).take()});
  }

  void file_record(std::uint32_t parent, const std::string& name, std::uint32_t id, const SampleNode& node,
                   bool link) {
    ByteWriter w;
    bool symbolic = node.kind == EntryKind::symbolic_link;
    bool kept = node.path == options_.packed_kept, in_fork = node.path == options_.packed_fork;
    Fork data = kept || in_fork ? Fork{}
                                : store(symbolic ? as_bytes(node.target) : ByteView(node.data),
                                        node.path == options_.scattered);
    Fork resource;
    if (node.path == options_.resource && !link) resource = store(as_bytes("fork of " + node.name()));
    if (kept) {
      ByteWriter packing;
      packing.u32(0x636D7066).u32(3).u64(node.data.size()).bytes(pack_block(BlockCodec::zlib, node.data));
      attribute(id, "com.apple.decmpfs", packing.view());
    }
    if (in_fork) {
      attribute(id, "com.apple.decmpfs", ByteWriter().u32(0x636D7066).u32(4).u64(node.data.size()).view());
      resource = store(packed_fork(node.data));
    }
    if (node.path == options_.attributed) attribute(id, "user.exhibit", as_bytes("seven"));
    w.u16be(2).u16be(2).u32be(0).u32be(id);
    dates_and_rights(w, node, symbolic ? 0120000 : 0100000, link ? ids_[options_.link_of] : 1,
                     kept || in_fork ? 0x20 : 0);
    if (link) {
      w.text("hlnkhfs+").zeros(8);
    } else {
      w.zeros(16);
    }
    w.zeros(16 + 4 + 4).bytes(fork_bytes(data)).bytes(fork_bytes(resource));
    overflow(data, id);
    catalog_.push_back({catalog_key(parent, name), w.take()});
    catalog_.push_back(
        {catalog_key(id, ""), ByteWriter().u16be(4).u16be(0).u32be(parent).bytes(name_units(name)).take()});
  }

  static Bytes packed_fork(ByteView data) {
    ByteWriter blocks, table;
    std::size_t count = (data.size() + 65535) / 65536, begin = 4 + count * 8;
    for (std::size_t at = 0; at < data.size(); at += 65536) {
      ByteView plain = data.subspan(at, std::min<std::size_t>(65536, data.size() - at));
      Bytes packed = pack_block(BlockCodec::zlib, plain);
      if (packed.size() >= plain.size()) {
        packed.assign(plain.begin(), plain.end());
        packed.insert(packed.begin(), 0xFF);
      }
      table.u32(begin + blocks.size()).u32(packed.size());
      blocks.bytes(packed);
    }
    ByteWriter out;
    std::size_t length = 4 + table.size() + blocks.size();
    out.u32be(256).u32be(256 + 4 + length).u32be(4 + length).u32be(50).zeros(240);
    return out.u32be(length).u32(count).bytes(table.view()).bytes(blocks.view()).zeros(50).take();
  }

  void attribute(std::uint32_t id, const std::string& name, ByteView value) {
    Bytes key = ByteWriter().u16be(0).u32be(id).u32be(0).bytes(name_units(name)).take();
    attributes_.push_back(
        {key, ByteWriter().u32be(0x10).zeros(8).u32be(value.size()).bytes(value).align(2).take()});
  }

  /// Leaves, and one level of index above them when there are several.
  template <typename Less>
  Fork store_tree(std::vector<Record>& records, Less less) {
    std::stable_sort(records.begin(), records.end(), less);
    std::vector<std::vector<Bytes>> leaves(1);
    std::vector<Bytes> first_keys;
    std::size_t used = 14 + 2;
    for (const Record& record : records) {
      Bytes raw =
          ByteWriter().u16be(record.key.size()).bytes(record.key).align(2).bytes(record.data).align(2).take();
      if (used + raw.size() + 2 > kNode) {
        leaves.emplace_back();
        used = 16;
      }
      if (leaves.back().empty()) first_keys.push_back(record.key);
      leaves.back().push_back(raw);
      used += raw.size() + 2;
    }
    bool indexed = leaves.size() > 1;
    std::size_t nodes = 1 + leaves.size() + (indexed ? 1 : 0), root = records.empty() ? 0
                                                                      : indexed       ? leaves.size() + 1
                                                                                      : 1;
    ByteWriter file;
    ByteWriter head;
    head.u16be(indexed ? 2 : 1)
        .u32be(root)
        .u32be(records.size())
        .u32be(records.empty() ? 0 : 1)
        .u32be(records.empty() ? 0 : leaves.size());
    head.u16be(kNode).u16be(516).u32be(nodes).u32be(0).u16be(0).u32be(kNode).u8(0).u8(0xCF).u32be(6).zeros(
        64);
    file.bytes(node(1, 0, 0, {head.take(), Bytes(128), Bytes(kNode - 14 - 106 - 128 - 8)}));
    for (std::size_t i = 0; i < leaves.size(); ++i)
      file.bytes(node(-1, i + 1 < leaves.size() ? i + 2 : 0, 1, leaves[i]));
    if (indexed) {
      std::vector<Bytes> rows;
      for (std::size_t i = 0; i < leaves.size(); ++i)
        rows.push_back(
            ByteWriter().u16be(first_keys[i].size()).bytes(first_keys[i]).align(2).u32be(i + 1).take());
      file.bytes(node(0, 0, 2, rows));
    }
    return store(file.view());
  }

  static Bytes node(int kind, std::size_t next, unsigned height, const std::vector<Bytes>& records) {
    Canvas out(kNode);
    out.big(0, next, 4);
    out[8] = static_cast<Byte>(kind);
    out[9] = static_cast<Byte>(height);
    out.big(10, records.size(), 2);
    std::size_t at = 14;
    for (std::size_t i = 0; i < records.size(); ++i) {
      out.big(kNode - 2 * (i + 1), at, 2);
      out.put(at, records[i]);
      at += records[i].size();
    }
    out.big(kNode - 2 * (records.size() + 1), at, 2);
    Bytes raw = out.take();
    if (raw.size() != kNode) throw std::runtime_error("a B-tree node is too full");
    return raw;
  }

  Bytes volume(const Fork& catalog, const Fork& overflow_fork, const Fork& attributes) {
    std::size_t blocks = next_block_ + 1;
    Canvas h(512);
    h.text(0, options_.extended ? "HX" : "H+");
    h.big(2, options_.extended ? 5 : 4, 2);
    h.big(4, 0x100, 4);
    h.big(16, 1772373908U + kFrom1904, 4);
    h.big(32, tree_.size(), 4);
    h.big(40, kBlock, 4);
    h.big(44, blocks, 4);
    h.big(48, 1, 4);
    h.put(192, fork_bytes(overflow_fork));
    h.put(272, fork_bytes(catalog));
    h.put(352, fork_bytes(attributes));
    Bytes header = h.take(), image = disk_.take();
    image.resize(blocks * kBlock);
    Canvas out(std::move(image));
    out.put(1024, header);
    out.put(blocks * kBlock - 1024, header);
    return out.take();
  }

  const SampleTree& tree_;
  HfsOptions options_;
  Canvas disk_{Bytes(kBlock)};
  std::size_t next_block_ = 1;
  std::map<std::string, std::uint32_t> ids_;
  std::vector<Record> catalog_, overflow_, attributes_;
};

}  // namespace

Bytes make_hfs(const SampleTree& tree, const HfsOptions& options) {
  return Writer(tree, options).build();
}

}  // namespace operculum::test
