#include "support/apfs_writer.h"

#include <openssl/evp.h>
#include <zlib.h>

#include <algorithm>
#include <functional>
#include <map>
#include <stdexcept>

#include "base/fields.h"

namespace operculum::test {
namespace {

constexpr std::size_t kBlock = 4096;
constexpr std::uint32_t kPhysical = 0x40000000;
constexpr std::uint32_t kTreeType = 2, kNodeType = 3, kMapType = 11, kFsTree = 14, kFextTree = 31;
constexpr std::uint64_t kXid = 2;

struct Pair {
  Bytes key, value;
};
Bytes number(std::uint64_t value) {
  return ByteWriter().u64(value).take();
}

// ---- encryption

Bytes crypt(const EVP_CIPHER* cipher, ByteView key, const Byte* vector, ByteView in, bool wrap = false) {
  EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
  if (wrap) EVP_CIPHER_CTX_set_flags(context, EVP_CIPHER_CTX_FLAG_WRAP_ALLOW);
  Bytes out(in.size() + 16);
  int length = 0;
  bool fine = EVP_EncryptInit_ex(context, cipher, nullptr, key.data(), vector) == 1 &&
              EVP_EncryptUpdate(context, out.data(), &length, in.data(), static_cast<int>(in.size())) == 1;
  EVP_CIPHER_CTX_free(context);
  if (!fine) throw std::runtime_error("encryption");
  out.resize(static_cast<std::size_t>(length));
  return out;
}

/// AES-XTS (IEEE 1619) of sectors of 512 bytes; the library refuses two equal halves of a key.
void encrypt(ByteView key, std::uint64_t sector, ByteSpan bytes) {
  const EVP_CIPHER* ecb = EVP_aes_128_ecb();
  for (std::size_t begin = 0; begin < bytes.size(); begin += 512, ++sector) {
    Bytes tweak = crypt(ecb, key.subspan(16), nullptr, ByteWriter().u64(sector).u64(0).take());
    for (std::size_t at = begin; at < begin + 512; at += 16) {
      Bytes block(bytes.begin() + static_cast<std::ptrdiff_t>(at),
                  bytes.begin() + static_cast<std::ptrdiff_t>(at + 16));
      for (std::size_t i = 0; i < 16; ++i) block[i] ^= tweak[i];
      block = crypt(ecb, key.first(16), nullptr, block);
      for (std::size_t i = 0; i < 16; ++i) bytes[at + i] = block[i] ^ tweak[i];
      unsigned carry = 0;
      for (Byte& one : tweak) {
        unsigned doubled = one * 2U + carry;
        carry = doubled >> 8;
        one = static_cast<Byte>(doubled);
      }
      if (carry != 0) tweak[0] ^= 0x87;
    }
  }
}

Bytes twice(const Bytes& bytes) {
  Bytes out = bytes;
  out.insert(out.end(), bytes.begin(), bytes.end());
  return out;
}

Bytes element(unsigned tag, ByteView value) {
  ByteWriter out;
  out.u8(tag);
  if (value.size() >= 128) out.u8(0x81);
  return out.u8(value.size()).bytes(value).take();
}

// ---- the container

class Writer {
 public:
  Bytes write(const std::vector<ApfsVolume>& volumes) {
    blocks_.resize(kFirstFree, Bytes(kBlock));
    std::vector<Pair> objects;
    std::vector<Bytes> bag;
    for (std::size_t i = 0; i < volumes.size(); ++i) {
      std::uint64_t oid = 1030 + i;
      objects.push_back({ByteWriter().u64(oid).u64(kXid).take(),
                         ByteWriter().u32(0).u32(kBlock).u64(volume(volumes[i], oid, i, bag)).take()});
    }
    std::uint64_t omap = object_map(objects);
    std::uint64_t locker = bag.empty() ? 0 : key_bag(bag, container_uuid(), 0x6B657973);
    std::uint64_t count = blocks_.size();
    superblock(0, 1, 0, 0, count, 0);  // old: its map is gone
    superblock(2, kXid, volumes.size(), omap, count, locker);
    superblock(3, 3, volumes.size(), 0, count, 0);
    blocks_[3][100] ^= 1;
    Bytes out;
    for (const Bytes& block : blocks_) out.insert(out.end(), block.begin(), block.end());
    return out;
  }

 private:
  static constexpr std::size_t kFirstFree = 5;

  static Bytes container_uuid() { return noise(16, 77); }
  static Bytes volume_uuid(std::size_t index) { return noise(16, static_cast<std::uint32_t>(80 + index)); }

  std::uint64_t take() {
    blocks_.emplace_back(kBlock);
    return blocks_.size() - 1;
  }

  static void finish(Bytes& block, std::uint64_t oid, std::uint32_t type, std::uint32_t subtype,
                     std::uint64_t xid = kXid) {
    Canvas canvas(std::move(block));
    canvas.u64(8, oid);
    canvas.u64(16, xid);
    canvas.u32(24, type);
    canvas.u32(28, subtype);
    std::uint64_t low = 0, high = 0;
    for (std::size_t at = 8; at < canvas.size(); at += 4) {
      std::uint64_t word = 0;
      for (std::size_t i = 0; i < 4; ++i) word |= std::uint64_t{canvas[at + i]} << (8 * i);
      low = (low + word) % 0xFFFFFFFF;
      high = (high + low) % 0xFFFFFFFF;
    }
    std::uint64_t first = 0xFFFFFFFF - (low + high) % 0xFFFFFFFF;
    canvas.u64(0, (0xFFFFFFFF - (low + first) % 0xFFFFFFFF) << 32 | first);
    block = canvas.take();
  }

  void superblock(std::size_t at, std::uint64_t xid, std::size_t volumes, std::uint64_t omap,
                  std::uint64_t count, std::uint64_t locker) {
    Canvas c(Bytes{});
    c.put(0, Bytes(kBlock));
    c.text(32, "NXSB");
    c.u32(36, kBlock);
    c.u64(40, count);
    c.u64(64, 2);
    c.put(72, container_uuid());
    c.u32(104, 4);  // the checkpoint area: blocks 1 to 4
    c.u64(112, 1);
    c.u64(160, omap);
    c.u32(180, 100);
    for (std::size_t i = 0; i < volumes; ++i) c.u64(184 + i * 8, 1030 + i);
    c.u64(1296, locker);
    c.u64(1304, locker != 0 ? 1 : 0);
    blocks_[at] = c.take();
    finish(blocks_[at], 1, 0x80000001, 0, xid);
  }

  // ---- trees

  struct Form {
    bool fixed = false;
    std::uint16_t flags = 0;
    /// Puts a node away and says what its parent calls it.
    std::function<std::uint64_t(Bytes node, bool root)> place;
    std::size_t index_value = 8;  ///< bytes
  };

  static Bytes node(const std::vector<Pair>& pairs, unsigned level, bool root, const Form& form) {
    std::size_t entry = form.fixed ? 4 : 8, end = kBlock - (root ? 40 : 0);
    Canvas c(Bytes{});
    c.put(0, Bytes(kBlock));
    c.u16(32, form.flags | (root ? 1U : 0U) | (level == 0 ? 2U : 0U) | (form.fixed ? 4U : 0U));
    c.u16(34, level);
    c.u32(36, pairs.size());
    c.u16(42, pairs.size() * entry);
    std::size_t keys = 56 + pairs.size() * entry, key = 0, value = 0;
    for (std::size_t i = 0; i < pairs.size(); ++i) {
      const Pair& one = pairs[i];
      value += one.value.size();
      c.put(keys + key, one.key);
      c.put(end - value, one.value);
      std::size_t at = 56 + i * entry;
      if (form.fixed) {
        c.u16(at, key);
        c.u16(at + 2, value);
      } else {
        c.u16(at, key);
        c.u16(at + 2, one.key.size());
        c.u16(at + 4, value);
        c.u16(at + 6, one.value.size());
      }
      key += one.key.size();
    }
    if (root) {
      c.u32(end + 4, kBlock);
      c.u32(end + 8, form.fixed ? 16 : 0);
      c.u32(end + 12, form.fixed ? 16 : 0);
    }
    return c.take();
  }

  static std::uint64_t tree(std::vector<Pair> pairs, const Form& form) {
    for (unsigned level = 0;; ++level) {
      std::vector<std::vector<Pair>> nodes(1);
      std::size_t used = 0;
      for (Pair& one : pairs) {
        std::size_t size = one.key.size() + one.value.size() + 8;
        if (used + size > kBlock - 56 - 40) {
          nodes.emplace_back();
          used = 0;
        }
        used += size;
        nodes.back().push_back(std::move(one));
      }
      if (nodes.size() == 1) return form.place(node(nodes[0], level, true, form), true);
      pairs.clear();
      for (const auto& one : nodes) {
        Bytes value = number(form.place(node(one, level, false, form), false));
        value.resize(form.index_value);
        pairs.push_back({one.front().key, std::move(value)});
      }
    }
  }

  std::uint64_t physical_tree(std::vector<Pair> pairs, std::uint32_t subtype) {
    auto numbers = [](const Pair& one) {
      LittleFields f(one.key, "key");
      return std::pair(f.u64(0), f.u64(8));
    };
    std::sort(pairs.begin(), pairs.end(),
              [&](const Pair& a, const Pair& b) { return numbers(a) < numbers(b); });
    Form form{.fixed = true};
    form.place = [&](Bytes bytes, bool root) {
      std::uint64_t at = take();
      blocks_[at] = std::move(bytes);
      finish(blocks_[at], at, kPhysical | (root ? kTreeType : kNodeType), subtype);
      return at;
    };
    return tree(std::move(pairs), form);
  }

  std::uint64_t object_map(std::vector<Pair> pairs) {
    std::uint64_t root = physical_tree(std::move(pairs), kMapType), at = take();
    Canvas c(std::move(blocks_[at]));
    c.u32(40, kPhysical | kTreeType);
    c.u64(48, root);
    blocks_[at] = c.take();
    finish(blocks_[at], at, kPhysical | kMapType, 0);
    return at;
  }

  // ---- a volume

  struct Place {  ///< of a record in the tree
    std::uint64_t id, type, sub;
    std::string name;
    auto operator<=>(const Place&) const = default;
  };
  struct State {
    const ApfsVolume& volume;
    Bytes key = {};  ///< empty: not encrypted
    std::map<Place, Pair> records = {};
    std::vector<Pair> extents = {};
  };

  std::uint64_t volume(const ApfsVolume& volume, std::uint64_t oid, std::size_t index,
                       std::vector<Bytes>& bag) {
    State state{volume};
    if (!volume.passphrase.empty()) {
      state.key = noise(32, static_cast<std::uint32_t>(90 + index));
      keys(state, index, bag);
    }
    std::map<std::string, std::uint64_t> ids = {{"", 2}};
    std::uint64_t next = 16, files = 0, folders = 0;
    inode(state, 2, {.path = "root", .kind = EntryKind::folder}, 1);
    name(state, 1, "root", 2, 4);
    for (const SampleNode& node : volume.tree) {
      std::uint64_t parent = ids.at(node.parent()), id = next++;
      if (node.kind == EntryKind::hard_link) {
        id = ids.at(node.target);
      } else {
        ids[node.path] = id;
        auto linked = [&](const SampleNode& one) {
          return one.kind == EntryKind::hard_link && one.target == node.path;
        };
        inode(state, id, node, std::any_of(volume.tree.begin(), volume.tree.end(), linked) ? 2 : 1);
      }
      (node.kind == EntryKind::folder ? folders : files) += 1;
      name(state, parent, node.name(), id, type_of(node.kind));
    }
    std::vector<Pair> pairs, objects;
    for (auto& [place, pair] : state.records) pairs.push_back(std::move(pair));
    const std::uint64_t root = 2000 + index * 10000;
    std::uint64_t next_oid = root + 1;
    Form form{.flags = static_cast<std::uint16_t>(volume.sealed ? 8 | 16 : 0)};
    if (volume.sealed) form.index_value = 8 + 32;  // and a digest
    form.place = [&](Bytes bytes, bool is_root) {
      std::uint64_t own = is_root ? root : next_oid++, at = take();
      blocks_[at] = std::move(bytes);
      if (!volume.sealed) finish(blocks_[at], own, is_root ? kTreeType : kNodeType, kFsTree);
      if (!state.key.empty()) encrypt(state.key, at * (kBlock / 512), blocks_[at]);
      unsigned flags = (state.key.empty() ? 0U : 4U) | (volume.sealed ? 8U : 0U);
      objects.push_back(
          {ByteWriter().u64(own).u64(kXid).take(), ByteWriter().u32(flags).u32(kBlock).u64(at).take()});
      return volume.sealed ? own - root : own;
    };
    tree(std::move(pairs), form);
    std::uint64_t omap = object_map(std::move(objects));
    std::uint64_t extents = volume.sealed ? physical_tree(std::move(state.extents), kFextTree) : 0,
                  at = take();
    Canvas c(std::move(blocks_[at]));
    c.text(32, "APSB");
    c.u64(56, (volume.ignores_case ? 1U : 0U) | (volume.sealed ? 0x20U : 0U));
    c.u64(88, 40);
    c.u32(116, kTreeType);
    c.u64(128, omap);
    c.u64(136, root);
    c.u64(184, files);
    c.u64(192, folders);
    c.put(240, volume_uuid(index));
    c.u64(256, 1772373908ULL * 1'000'000'000);
    c.u64(264, state.key.empty() ? 1 : 8);
    c.text(704, volume.name);
    c.u16(964, volume.role);
    c.u64(1032, extents);
    c.u32(1040, kPhysical | kTreeType);
    blocks_[at] = c.take();
    finish(blocks_[at], oid, 13, 0);
    return at;
  }

  static unsigned type_of(EntryKind kind) {
    switch (kind) {
      case EntryKind::folder:
        return 4;
      case EntryKind::symbolic_link:
        return 10;
      case EntryKind::fifo:
        return 1;
      case EntryKind::character_device:
        return 2;
      default:
        return 8;
    }
  }

  static Bytes head(std::uint64_t id, std::uint64_t type) { return number(id | type << 60); }

  static void name(State& state, std::uint64_t folder, const std::string& text, std::uint64_t id,
                   unsigned type) {
    ByteWriter key;
    key.bytes(head(folder, 9));
    if (state.volume.ignores_case)
      key.u32((text.size() + 1) | 0x2A5 << 10);
    else
      key.u16(text.size() + 1);
    key.text(text).u8(0);
    state.records[{folder, 9, 0, text}] = {key.take(), ByteWriter().u64(id).u64(0).u16(type).take()};
  }

  static void attribute(State& state, std::uint64_t id, const std::string& text, unsigned flags,
                        Bytes value) {
    state.records[{id, 4, 0, text}] = {
        ByteWriter().bytes(head(id, 4)).u16(text.size() + 1).text(text).u8(0).take(),
        ByteWriter().u16(flags).u16(value.size()).bytes(value).take()};
  }

  static Bytes stream(std::uint64_t size, std::uint64_t stored) {
    return ByteWriter().u64(size).u64(stored).zeros(24).take();
  }

  void resource(State& state, std::uint64_t id, ByteView fork) {
    std::uint64_t own = id + 60000, stored = data(state, own, fork);
    attribute(state, id, "com.apple.ResourceFork", 1,
              ByteWriter().u64(own).bytes(stream(fork.size(), stored)).take());
  }

  /// Its data in extents, the first of one block; blocks of zeros are holes. Returns the bytes that are
  /// stored.
  std::uint64_t data(State& state, std::uint64_t id, ByteView bytes) {
    std::uint64_t stored = 0;
    for (std::size_t at = 0; at < bytes.size();) {
      std::size_t size = at == 0 ? std::min(kBlock, bytes.size()) : bytes.size() - at;
      std::size_t count = (size + kBlock - 1) / kBlock;
      ByteView part = bytes.subspan(at, size);
      bool hole = std::all_of(part.begin(), part.end(), [](Byte b) { return b == 0; });
      take();  // what lies between is no file's
      std::uint64_t first = hole ? 0 : blocks_.size();
      for (std::size_t i = 0; i < count && !hole; ++i) {
        ByteView one = part.subspan(i * kBlock, std::min(kBlock, size - i * kBlock));
        std::uint64_t block = take();
        std::copy(one.begin(), one.end(), blocks_[block].begin());
        if (!state.key.empty()) encrypt(state.key, (first + i) * (kBlock / 512), blocks_[block]);
      }
      stored += hole ? 0 : count * kBlock;
      if (state.volume.sealed)
        state.extents.push_back(
            {ByteWriter().u64(id).u64(at).take(), ByteWriter().u64(count * kBlock).u64(first).take()});
      else
        state.records[{id, 8, at, ""}] = {ByteWriter().bytes(head(id, 8)).u64(at).take(),
                                          ByteWriter().u64(count * kBlock).u64(first).u64(first).take()};
      at += count * kBlock;
    }
    return stored;
  }

  void inode(State& state, std::uint64_t id, const SampleNode& node, unsigned links) {
    const std::string& path = node.path;
    bool packed = path == state.volume.packed_kept || path == state.volume.packed_fork;
    std::uint64_t time = static_cast<std::uint64_t>(node.time) * 1'000'000'000;
    bool device = node.kind == EntryKind::character_device;
    ByteWriter out;
    out.u64(1).u64(id + 30000).u64(time).u64(time).u64(time).u64(time).u64(0).u32(links).u32(0).u32(0);
    out.u32(packed ? 0x20 : 0).u32(node.user).u32(node.group);
    out.u16(type_of(node.kind) << 12 | node.permissions()).u16(0).u64(0);
    bool has_stream = node.kind == EntryKind::file && !packed;
    out.u16((has_stream ? 1U : 0U) + (device ? 1U : 0U) + 1U);
    std::string text = node.name();
    text += '\0';
    out.u16((text.size() + 7) / 8 * 8 + (has_stream ? 40U : 0U) + (device ? 8U : 0U));
    out.u8(4).u8(2).u16(text.size());
    if (has_stream) out.u8(8).u8(0x20).u16(40);
    if (device) out.u8(14).u8(0).u16(4);
    out.text(text).zeros((8 - text.size() % 8) % 8);
    if (has_stream) out.bytes(stream(node.data.size(), data(state, id + 30000, node.data)));
    if (device) out.u32(4 << 24 | 66).u32(0);
    state.records[{id, 3, 0, ""}] = {head(id, 3), out.take()};
    if (node.kind == EntryKind::symbolic_link)
      attribute(state, id, "com.apple.fs.symlink", 2 | 4, to_bytes(node.target + '\0'));
    if (path == state.volume.attributed) attribute(state, id, "exhibit", 2, to_bytes("seven"));
    if (path == state.volume.resource) resource(state, id, as_bytes("fork of " + path));
    if (packed) pack(state, id, node.data, path == state.volume.packed_fork);
  }

  /// The attribute "com.apple.decmpfs": kept in it, or in blocks of 64 KiB in the resource fork.
  void pack(State& state, std::uint64_t id, const Bytes& bytes, bool in_fork) {
    auto zlib = [](ByteView part) {
      uLongf size = compressBound(part.size());
      Bytes out(size);
      compress2(out.data(), &size, part.data(), part.size(), 9);
      out.resize(size);
      return out;
    };
    ByteWriter head;
    head.text("fpmc").u32(in_fork ? 4 : 3).u64(bytes.size());
    if (!in_fork) head.bytes(zlib(bytes));
    attribute(state, id, "com.apple.decmpfs", 2, head.take());
    if (!in_fork) return;
    ByteWriter table, blocks;
    std::size_t count = (bytes.size() + 65535) / 65536;
    table.u32(count);
    for (std::size_t i = 0; i < count; ++i) {
      Bytes one =
          zlib(ByteView(bytes).subspan(i * 65536, std::min<std::size_t>(65536, bytes.size() - i * 65536)));
      table.u32(4 + count * 8 + blocks.size()).u32(one.size());
      blocks.bytes(one);
    }
    Bytes fork = ByteWriter()
                     .u32be(256)
                     .u32be(0)
                     .u32be(0)
                     .u32be(0)
                     .zeros(240)
                     .u32be(0)
                     .bytes(table.view())
                     .bytes(blocks.view())
                     .take();
    resource(state, id, fork);
  }

  // ---- keys

  std::uint64_t key_bag(const std::vector<Bytes>& entries, const Bytes& uuid, std::uint32_t type) {
    ByteWriter out;
    out.zeros(32).u16(2).u16(entries.size()).u32(0).zeros(8);
    for (const Bytes& entry : entries) out.bytes(entry).align(16);
    std::uint64_t at = take();
    blocks_[at] = out.take();
    blocks_[at].resize(kBlock);
    finish(blocks_[at], 0, type, 0);
    encrypt(twice(uuid), at * (kBlock / 512), blocks_[at]);
    return at;
  }

  static Bytes entry(const Bytes& uuid, unsigned tag, const Bytes& data) {
    return ByteWriter().bytes(uuid).u16(tag).u16(data.size()).u32(0).bytes(data).take();
  }

  static Bytes wrapped(ByteView kek, ByteView key, const Bytes& more) {
    ByteWriter inner;
    inner.bytes(element(0x80, Bytes{0})).bytes(element(0x81, noise(16, 5))).bytes(element(0x82, Bytes(8)));
    inner.bytes(element(0x83, crypt(EVP_aes_256_wrap(), kek, nullptr, key, true))).bytes(more);
    ByteWriter outer;
    outer.bytes(element(0x80, Bytes{0})).bytes(element(0x81, Bytes(32))).bytes(element(0x82, Bytes(8)));
    outer.bytes(element(0xA3, inner.view()));
    return element(0x30, outer.view());
  }

  void keys(State& state, std::size_t index, std::vector<Bytes>& bag) {
    constexpr unsigned kRounds = 300;
    Bytes kek = noise(32, 60), salt = noise(16, 61), derived(32);
    const std::string& passphrase = state.volume.passphrase;
    PKCS5_PBKDF2_HMAC(passphrase.data(), static_cast<int>(passphrase.size()), salt.data(), 16, kRounds,
                      EVP_sha256(), 32, derived.data());
    Bytes rounds = element(0x84, Bytes{kRounds >> 8, kRounds & 0xFF}), more = rounds;
    Bytes salted = element(0x85, salt);
    more.insert(more.end(), salted.begin(), salted.end());
    Bytes uuid = volume_uuid(index);
    Bytes other = wrapped(noise(32, 62), noise(32, 63), more);  // of somebody else's passphrase
    std::uint64_t own =
        key_bag({entry(noise(16, 64), 4, to_bytes("the usual one")), entry(noise(16, 65), 3, other),
                 entry(noise(16, 66), 3, wrapped(derived, kek, more))},
                uuid, 0x72656373);
    bag.push_back(entry(uuid, 2, wrapped(state.volume.lost_key ? noise(32, 67) : kek, state.key, {})));
    bag.push_back(entry(uuid, 3, ByteWriter().u64(own).u64(1).take()));
  }

  std::vector<Bytes> blocks_;
};

}  // namespace

Bytes make_apfs(const std::vector<ApfsVolume>& volumes) {
  return Writer().write(volumes);
}

}  // namespace operculum::test
