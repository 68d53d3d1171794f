#include "format/filesystem/apfs_tree.h"

#include <algorithm>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure_fields.h"

namespace operculum::apfs {
namespace {

constexpr unsigned kDeepest = 12;
constexpr std::uint16_t kNoValue = 0xFFFF;

std::uint32_t word_at(ByteView bytes, std::size_t at) {
  return load_little<std::uint32_t>(bytes.data() + at);
}

/// Where a key or a value lies within its part of the node.
struct Place {
  std::size_t offset, length;
};

}  // namespace

std::uint64_t object_sum(ByteView object) {
  constexpr std::uint64_t kModulus = 0xFFFFFFFF;
  std::uint64_t first = 0, second = 0;  // a block of 64 KiB does not overflow them
  for (std::size_t at = 8; at + 4 <= object.size(); at += 4) {
    first += word_at(object, at);
    second += first;
  }
  first %= kModulus;
  second %= kModulus;
  std::uint64_t low = kModulus - (first + second) % kModulus;
  std::uint64_t high = kModulus - (first + low) % kModulus;
  return high << 32 | low;
}

Bytes Blocks::raw(std::uint64_t block, const char* what) const {
  if (block >= count())
    throw Malformed(fmt::format("{}: block {} lies outside of the image's {}", what, block, count()));
  return read_exactly(*image_, block * size_, size_, what);
}

Bytes Blocks::object(std::uint64_t block, const char* what) const {
  Bytes bytes = raw(block, what);
  check(bytes, block, what);
  return bytes;
}

void Blocks::check(ByteView object, std::uint64_t block, const char* what) {
  std::uint64_t stored = load_little<std::uint64_t>(object.data()), own = object_sum(object);
  if (!sum_fits(own, stored))
    throw Malformed(
        fmt::format("{} in block {}: checksum {:016x}, expected {:016x}", what, block, own, stored));
}

/// A node, and what its head says of it.
struct Tree::Node {
  BytesPtr bytes;
  NodeHead head;
  std::size_t keys_at = 0, values_end = 0;
  std::size_t key_size = 0, value_size = 0;  // of trees with fixed sizes

  std::size_t count() const { return head.nkeys; }
  bool is_leaf() const { return head.level == 0; }
  Record record(std::size_t index) const {
    LittleFields toc(*bytes, "APFS node");
    std::size_t at = NodeHead::size + head.table_space_off;
    Place key{}, value{};
    if ((head.flags & NodeHead::fixed_size) != 0) {
      key = {toc.u16(at + index * 4), key_size};
      value = {toc.u16(at + index * 4 + 2), is_leaf() ? value_size : 8};
    } else {
      key = {toc.u16(at + index * 8), toc.u16(at + index * 8 + 2)};
      value = {toc.u16(at + index * 8 + 4), toc.u16(at + index * 8 + 6)};
    }
    bool ghost = value.offset == kNoValue;
    if (keys_at + key.offset + key.length > values_end ||
        (!ghost && (value.offset > values_end || value.length > value.offset)))
      throw Malformed(fmt::format("APFS node: its record {} lies outside of it", index));
    ByteView all = *bytes;
    return {all.subspan(keys_at + key.offset, key.length),
            ghost ? ByteView() : all.subspan(values_end - value.offset, value.length)};
  }

  /// The first record whose key `holds` is false for.
  std::size_t partition(const std::function<bool(ByteView)>& holds) const {
    std::size_t low = 0, high = count();
    while (low < high) {
      std::size_t middle = (low + high) / 2;
      if (holds(record(middle).key)) {
        low = middle + 1;
      } else {
        high = middle;
      }
    }
    return low;
  }
};

Tree::Tree(std::uint64_t root, ReadNode read, std::uint64_t most)
    : root_(root), read_(std::move(read)), most_(most) {
  node(root_, std::nullopt);
}

Tree::Node Tree::node(std::uint64_t id, std::optional<unsigned> level) const {
  Node out;
  out.bytes = nodes_->get(id, [&] { return read_(id); });
  ByteView bytes = *out.bytes;
  out.head = read_structure<NodeHead>(bytes.data());
  bool is_root = (out.head.flags & NodeHead::root) != 0;
  std::size_t entry = (out.head.flags & NodeHead::fixed_size) != 0 ? 4 : 8;
  out.values_end = bytes.size() - (is_root ? NodeHead::info_size : 0);
  out.keys_at = NodeHead::size + std::size_t{out.head.table_space_off} + out.head.table_space_len;
  if (level && out.head.level != *level)
    throw Malformed(fmt::format("APFS node {}: level {}, expected {}", id, out.head.level, *level));
  if (out.head.level > kDeepest || out.keys_at > out.values_end ||
      out.head.nkeys > out.head.table_space_len / entry)
    throw Malformed(fmt::format("APFS node {}: {} keys at level {} in a table of {} bytes are not possible",
                                id, out.head.nkeys, out.head.level, out.head.table_space_len));
  if (entry == 4) {
    BytesPtr root = is_root ? out.bytes : nodes_->get(root_, [&] { return read_(root_); });
    std::size_t info = root->size() - NodeHead::info_size;
    out.key_size = word_at(*root, info + 8);
    out.value_size = word_at(*root, info + 12);
    if (out.key_size > bytes.size() || out.value_size > bytes.size())
      throw Malformed(fmt::format("APFS node {}: keys of {} bytes and values of {} are not possible", id,
                                  out.key_size, out.value_size));
  }
  return out;
}

std::uint64_t Tree::child(const Node& node, std::size_t index) {
  return structure_in<ChildRecord>(node.record(index).value, "APFS index").oid;
}

void Tree::from(const std::function<bool(ByteView)>& before,
                const std::function<bool(const Record&)>& take) const {
  struct Open {
    Node node;
    std::size_t next;
  };
  std::vector<Open> way;
  auto enter = [&](Node node) {
    std::size_t first = node.partition(before);
    if (!node.is_leaf() && first > 0) --first;
    way.push_back({std::move(node), first});
  };
  enter(node(root_, std::nullopt));
  for (std::uint64_t visited = 1; !way.empty();) {
    Open& top = way.back();
    if (top.next == top.node.count()) {
      way.pop_back();
      continue;
    }
    std::size_t index = top.next++;
    if (top.node.is_leaf()) {
      if (!take(top.node.record(index))) return;
      continue;
    }
    if (++visited > most_) throw Malformed("APFS: a tree has more nodes than the image has blocks");
    enter(node(child(top.node, index), top.node.head.level - 1U));
  }
}

bool Tree::last(const std::function<bool(ByteView)>& fits,
                const std::function<void(const Record&)>& take) const {
  std::uint64_t visited = 0;
  std::function<bool(const Node&)> look = [&](const Node& at) {
    if (++visited > most_) throw Malformed("APFS: a tree has more nodes than the image has blocks");
    std::size_t end = at.partition(fits);
    if (at.is_leaf()) {
      if (end > 0) take(at.record(end - 1));
      return end > 0;
    }
    for (; end > 0; --end)  // what a key of an index stood for may be gone
      if (look(node(child(at, end - 1), at.head.level - 1U))) return true;
    return false;
  };
  return look(node(root_, std::nullopt));
}

namespace {

std::uint64_t tree_of(const Blocks& blocks, std::uint64_t at) {
  Bytes raw = blocks.object(at, "APFS object map");
  auto type = static_cast<ObjectType>(read_structure<ObjectHead>(raw.data()).type & 0xFFFF);
  if (type != ObjectType::omap) throw Malformed(fmt::format("APFS: block {} holds no object map", at));
  return read_structure<ObjectMapHead>(raw.data()).tree_oid;
}

}  // namespace

ObjectMap::ObjectMap(const Blocks& blocks, std::uint64_t at)
    : tree_(
          tree_of(blocks, at),
          [blocks](std::uint64_t block) { return blocks.object(block, "APFS node of an object map"); },
          blocks.count()) {}

std::optional<MappedObject> ObjectMap::find(std::uint64_t oid, std::uint64_t xid) const {
  std::optional<MappedObject> out;
  auto not_behind = [&](ByteView key) {
    auto [own, moment] = structure_in<ObjectKey>(key, "APFS object map");
    return own != oid ? own < oid : moment <= xid;
  };
  tree_.last(not_behind, [&](const Record& record) {
    if (structure_in<ObjectKey>(record.key, "APFS object map").oid != oid) return;
    out = structure_in<MappedObject>(record.value, "APFS object map");
  });
  if (out && (out->flags & MappedObject::deleted) != 0) out.reset();
  return out;
}

}  // namespace operculum::apfs
