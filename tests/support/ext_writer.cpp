#include "support/ext_writer.h"

#include <map>
#include <stdexcept>

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = 4096, kInode = 256, kFirstInode = 11;

class Writer {
 public:
  Writer(const SampleTree& tree, std::size_t size, const std::string& label)
      : tree_(tree), disk_(size / kBlock * kBlock), label_(label) {
    blocks_ = disk_.size() / kBlock;
    inodes_ = (tree.size() + kFirstInode + 16 + 15) / 16 * 16;
    next_block_ = 4 + (inodes_ * kInode + kBlock - 1) / kBlock;
    std::uint32_t next = kFirstInode;
    numbers_[""] = 2;
    for (const SampleNode& node : tree) numbers_[node.path] = next++;
    used_inodes_ = next - 1;
  }

  Bytes build() {
    folder({.path = "", .kind = EntryKind::folder});
    for (const SampleNode& node : tree_) {
      if (node.kind == EntryKind::folder) {
        folder(node);
      } else if (node.kind == EntryKind::symbolic_link) {
        link(node);
      } else {
        inode(node, 0100000, node.data, 1);
      }
    }
    tables();
    return disk_.take();
  }

 private:
  std::size_t place_of(std::uint32_t number) const { return 4 * kBlock + (number - 1) * kInode; }

  void inode(const SampleNode& node, unsigned type, ByteView data, unsigned links) {
    std::size_t at = place_of(numbers_[node.path]), count = (data.size() + kBlock - 1) / kBlock;
    if (next_block_ + count > blocks_) throw std::runtime_error("the ext image is too small");
    common(at, node, type, data.size(), links);
    disk_.u32(at + 28, count * (kBlock / 512));
    disk_.u32(at + 32, 0x80000);
    disk_.u16(at + 40, 0xF30A);
    disk_.u16(at + 42, count > 0 ? 1 : 0);
    disk_.u16(at + 44, 4);
    if (count > 0) {
      disk_.u16(at + 40 + 16, count);
      disk_.u32(at + 40 + 20, next_block_);
      disk_.put(next_block_ * kBlock, data);
      next_block_ += count;
    }
  }

  void common(std::size_t at, const SampleNode& node, unsigned type, std::size_t size, unsigned links) {
    disk_.u16(at, type | node.permissions());
    disk_.u16(at + 2, node.user);
    disk_.u32(at + 4, size);
    for (std::size_t field : {8, 12, 16}) disk_.u32(at + field, static_cast<std::uint64_t>(node.time));
    disk_.u16(at + 24, node.group);
    disk_.u16(at + 26, links);
    disk_.u16(at + 128, 32);
  }

  void link(const SampleNode& node) {
    if (node.target.size() >= 60) return inode(node, 0120000, as_bytes(node.target), 1);
    std::size_t at = place_of(numbers_[node.path]);
    SampleNode own = node;
    own.mode = 0777;
    common(at, own, 0120000, node.target.size(), 1);
    disk_.text(at + 40, node.target);
  }

  void folder(const SampleNode& node) {
    struct Row {
      std::string name;
      std::uint32_t number;
      unsigned type;
    };
    std::string parent = node.parent();
    std::vector<Row> rows = {{".", numbers_[node.path], 2}, {"..", numbers_[parent], 2}};
    unsigned links = 2;
    for (std::size_t child : children_of(tree_, node.path)) {
      if (node.path.empty() && tree_[child].path.empty()) continue;
      EntryKind kind = tree_[child].kind;
      links += kind == EntryKind::folder ? 1 : 0;
      rows.push_back({tree_[child].name(), numbers_[tree_[child].path],
                      kind == EntryKind::folder          ? 2U
                      : kind == EntryKind::symbolic_link ? 7U
                                                         : 1U});
    }
    Bytes data;
    std::size_t last = 0;
    for (const Row& row : rows) {
      std::size_t length = (8 + row.name.size() + 3) / 4 * 4;
      std::size_t left = kBlock - data.size() % kBlock;
      if (data.size() % kBlock != 0 && left < length) {  // the last entry of a block reaches its end
        lengthen(data, last, left);
        data.resize(data.size() + left);
      }
      last = data.size();
      ByteWriter one;
      one.u32(row.number).u16(length).u8(row.name.size()).u8(row.type).text(row.name).align(4);
      data.insert(data.end(), one.view().begin(), one.view().end());
    }
    std::size_t left = (kBlock - data.size() % kBlock) % kBlock;
    lengthen(data, last, left);
    data.resize(data.size() + left);
    inode(node, 040000, data, links);
  }

  static void lengthen(Bytes& data, std::size_t entry, std::size_t more) {
    std::size_t length = data[entry + 4] + data[entry + 5] * 256U + more;
    data[entry + 4] = static_cast<Byte>(length);
    data[entry + 5] = static_cast<Byte>(length >> 8);
  }

  void tables() {
    std::size_t at = 1024;
    disk_.u32(at, inodes_);
    disk_.u32(at + 4, blocks_);
    disk_.u32(at + 12, blocks_ - next_block_);
    disk_.u32(at + 16, inodes_ - used_inodes_);
    disk_.u32(at + 24, 2);  // 1024 << 2
    disk_.u32(at + 28, 2);
    disk_.u32(at + 32, 32768);
    disk_.u32(at + 36, 32768);
    disk_.u32(at + 40, inodes_);
    disk_.u32(at + 48, 1772373908);
    disk_.u16(at + 54, 0xFFFF);
    disk_.u16(at + 56, 0xEF53);
    disk_.u16(at + 58, 1);
    disk_.u16(at + 60, 1);
    disk_.u32(at + 76, 1);
    disk_.u32(at + 84, kFirstInode);
    disk_.u16(at + 88, kInode);
    disk_.u32(at + 96, 0x42);  // file types, extents
    disk_.u32(at + 100, 2);    // large files
    for (std::size_t i = 0; i < 16; ++i) disk_[at + 104 + i] = static_cast<Byte>(0x50 + i);
    disk_.text(at + 120, label_);
    disk_.u32(at + 264, 1772373908);
    disk_.u16(at + 348, 32);
    disk_.u16(at + 350, 32);
    std::size_t group = kBlock;
    disk_.u32(group, 2);
    disk_.u32(group + 4, 3);
    disk_.u32(group + 8, 4);
    disk_.u16(group + 12, blocks_ - next_block_);
    disk_.u16(group + 14, inodes_ - used_inodes_);
    unsigned folders = 1;
    for (const SampleNode& node : tree_) folders += node.kind == EntryKind::folder ? 1 : 0;
    disk_.u16(group + 16, folders);
    auto mark = [&](std::size_t bitmap, std::size_t used, std::size_t total) {
      for (std::size_t i = 0; i < kBlock * 8; ++i) {
        if (i < used || i >= total) disk_[bitmap * kBlock + i / 8] |= static_cast<Byte>(1U << (i % 8));
      }
    };
    mark(2, next_block_, blocks_);
    mark(3, used_inodes_, inodes_);
  }

  const SampleTree& tree_;
  Canvas disk_;
  std::string label_;
  std::size_t blocks_ = 0, inodes_ = 0, next_block_ = 0, used_inodes_ = 0;
  std::map<std::string, std::uint32_t> numbers_;
};

}  // namespace

Bytes make_ext(const SampleTree& tree, std::size_t size, const std::string& label) {
  return Writer(tree, size, label).build();
}

}  // namespace operculum::test
