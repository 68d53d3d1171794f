#include "support/squashfs_writer.h"

#include <algorithm>
#include <map>
#include <stdexcept>

#include "support/block_packer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kMeta = 8192, kSuper = 96;
constexpr std::uint32_t kStored = 1U << 24;
constexpr std::uint64_t kNone = ~std::uint64_t{0};

/// Metadata in packed blocks of 8 KiB.
class MetaWriter {
 public:
  explicit MetaWriter(BlockCodec codec) : codec_(codec) {}
  std::uint64_t block() const { return out_.size(); }
  std::uint64_t offset() const { return pending_.size(); }
  std::uint64_t reference() const { return (block() << 16) | offset(); }
  void add(ByteView bytes) {
    pending_.insert(pending_.end(), bytes.begin(), bytes.end());
    while (pending_.size() >= kMeta) flush(kMeta);
  }
  Bytes finish() {
    if (!pending_.empty()) flush(pending_.size());
    return out_.take();
  }

 private:
  void flush(std::size_t count) {
    ByteView plain = ByteView(pending_).first(count);
    Bytes packed = pack_block(codec_, plain);
    bool stored = packed.size() >= count;
    out_.u16((stored ? count : packed.size()) | (stored ? 0x8000 : 0))
        .bytes(stored ? plain : ByteView(packed));
    pending_.erase(pending_.begin(), pending_.begin() + static_cast<std::ptrdiff_t>(count));
  }
  BlockCodec codec_;
  Bytes pending_;
  ByteWriter out_;
};

std::uint16_t method_number(BlockCodec codec) {
  switch (codec) {
    case BlockCodec::zlib:
      return 1;
    case BlockCodec::lzma_alone:
      return 2;
    case BlockCodec::lzo:
      return 3;
    case BlockCodec::xz:
      return 4;
    case BlockCodec::lz4:
      return 5;
    case BlockCodec::zstd:
      return 6;
    default:
      throw std::runtime_error("SquashFS has no such codec");
  }
}

struct Placed {
  std::uint64_t reference = 0;  // of its inode
  std::uint32_t number = 0;
  std::uint16_t type = 0;
};

class Writer {
 public:
  Writer(const SampleTree& tree, const SquashOptions& options)
      : tree_(tree), options_(options), inodes_(options.codec), folders_(options.codec) {
    image_.zeros(kSuper);
    if (options.codec == BlockCodec::lz4)
      image_.u16(8 | 0x8000).u32(1).u32(0);  // its options are not optional
  }

  Bytes build() {
    write_attributes();
    std::uint32_t count = static_cast<std::uint32_t>(tree_.size()) + 1;
    for (const SampleNode& node : tree_) numbers_[node.path] = ++last_number_;
    numbers_[""] = count;
    store_data();
    Placed root = folder("", count + 1);
    std::uint64_t inode_table = image_.size();
    image_.bytes(inodes_.finish());
    std::uint64_t folder_table = image_.size();
    image_.bytes(folders_.finish());
    std::uint64_t fragment_table = table(fragments_, 16);
    std::uint64_t ids = table({ByteWriter().u32(0).take()}, 4);
    std::uint64_t attributes = kNone;
    if (options_.extended) attributes = attribute_table();
    std::uint64_t used = image_.size();
    image_.align(4096);
    Canvas out(image_.take());
    std::uint32_t bits = 0;
    while ((1U << bits) < options_.block) ++bits;
    ByteWriter super;
    std::uint16_t flags =
        static_cast<std::uint16_t>((options_.fragments ? 0 : 0x10) | (options_.extended ? 0 : 0x200) |
                                   (options_.codec == BlockCodec::lz4 ? 0x400 : 0));
    super.text("hsqs")
        .u32(count)
        .u32(1772373908)
        .u32(options_.block)
        .u32(fragments_.size())
        .u16(method_number(options_.codec))
        .u16(bits);
    super.u16(flags)
        .u16(1)
        .u16(4)
        .u16(0)
        .u64(root.reference)
        .u64(used)
        .u64(ids)
        .u64(attributes)
        .u64(inode_table)
        .u64(folder_table);
    super.u64(fragments_.empty() ? kNone : fragment_table).u64(kNone);
    out.put(0, super.view());
    return out.take();
  }

 private:
  struct Stored {
    std::uint64_t start = 0;
    std::vector<std::uint32_t> sizes;
    std::uint32_t fragment = ~0U, offset = 0;
  };

  std::uint32_t store_block(ByteView plain) {
    Bytes packed = pack_block(options_.codec, plain);
    bool stored = packed.size() >= plain.size();
    image_.bytes(stored ? plain : ByteView(packed));
    return static_cast<std::uint32_t>(stored ? plain.size() | kStored : packed.size());
  }

  void store_data() {
    for (const SampleNode& node : tree_) {
      if (node.kind != EntryKind::file) continue;
      Stored one;
      one.start = image_.size();
      std::size_t at = 0;
      for (; at < node.data.size(); at += options_.block) {
        ByteView part =
            ByteView(node.data).subspan(at, std::min<std::size_t>(options_.block, node.data.size() - at));
        if (options_.fragments && part.size() < options_.block) break;
        bool zeros = std::all_of(part.begin(), part.end(), [](Byte b) { return b == 0; });
        one.sizes.push_back(zeros && part.size() == options_.block ? 0 : store_block(part));
      }
      if (at < node.data.size()) {
        ByteView rest = ByteView(node.data).subspan(at);
        if (fragment_.size() + rest.size() > options_.block) flush_fragment();
        one.fragment = static_cast<std::uint32_t>(fragments_.size());
        one.offset = static_cast<std::uint32_t>(fragment_.size());
        fragment_.insert(fragment_.end(), rest.begin(), rest.end());
      }
      stored_[node.path] = one;
    }
    flush_fragment();
  }

  void flush_fragment() {
    if (fragment_.empty()) return;
    std::uint64_t at = image_.size();
    std::uint32_t size = store_block(fragment_);
    fragments_.push_back(ByteWriter().u64(at).u32(size).u32(0).take());
    fragment_.clear();
  }

  ByteWriter head(const SampleNode& node, std::uint16_t type) {
    ByteWriter out;
    out.u16(type)
        .u16(node.permissions())
        .u16(0)
        .u16(0)
        .u32(static_cast<std::uint64_t>(node.time))
        .u32(numbers_[node.path]);
    return out;
  }

  Placed other(const SampleNode& node) {
    bool wide = options_.extended;
    std::uint16_t basic = node.kind == EntryKind::file            ? 2
                          : node.kind == EntryKind::symbolic_link ? 3
                          : node.kind == EntryKind::fifo          ? 6
                                                                  : 5;
    Placed placed{inodes_.reference(), numbers_[node.path], basic};
    ByteWriter out = head(node, static_cast<std::uint16_t>(wide ? basic + 7 : basic));
    if (node.kind == EntryKind::file) {
      const Stored& one = stored_[node.path];
      if (wide) {
        out.u64(one.start).u64(node.data.size()).u64(0).u32(1).u32(one.fragment).u32(one.offset).u32(0);
      } else {
        out.u32(one.start).u32(one.fragment).u32(one.offset).u32(node.data.size());
      }
      for (std::uint32_t size : one.sizes) out.u32(size);
    } else if (node.kind == EntryKind::symbolic_link) {
      out.u32(1).u32(node.target.size()).text(node.target);
      if (wide) out.u32(~0U);
    } else {
      out.u32(1);
      if (basic == 5) out.u32(0x0501);
      if (wide) out.u32(~0U);
    }
    inodes_.add(out.view());
    return placed;
  }

  Placed folder(const std::string& path, std::uint32_t parent) {
    std::vector<std::size_t> children = children_by_name(tree_, path);
    std::vector<Placed> placed;
    for (std::size_t child : children)
      placed.push_back(tree_[child].kind == EntryKind::folder ? folder(tree_[child].path, numbers_[path])
                                                              : other(tree_[child]));
    std::uint64_t block = folders_.block(), offset = folders_.offset(), size = 0, links = 2;
    for (std::size_t i = 0; i < children.size();) {
      std::uint64_t inode_block = placed[i].reference >> 16;
      std::size_t end = i;
      while (end < children.size() && end - i < 256 && placed[end].reference >> 16 == inode_block) ++end;
      ByteWriter out;
      out.u32(end - i - 1).u32(inode_block).u32(placed[i].number);
      for (std::size_t base = i; i < end; ++i) {
        const std::string name = tree_[children[i]].name();
        out.u16(placed[i].reference & 0xFFFF)
            .u16(placed[i].number - placed[base].number)
            .u16(placed[i].type)
            .u16(name.size() - 1)
            .text(name);
        links += placed[i].type == 1 ? 1 : 0;
      }
      size += out.size();
      folders_.add(out.view());
    }
    SampleNode own = folder_node(tree_, path);
    Placed result{inodes_.reference(), numbers_[path], 1};
    if (options_.extended) {
      inodes_.add(
          head(own, 8).u32(links).u32(size + 3).u32(block).u32(parent).u16(0).u16(offset).u32(~0U).view());
    } else {
      inodes_.add(head(own, 1).u32(block).u32(links).u16(size + 3).u16(offset).u32(parent).view());
    }
    return result;
  }

  /// One set of attributes for all files: user.exhibit.
  void write_attributes() { pairs_ = ByteWriter().u16(0).u16(7).text("exhibit").u32(5).text("seven").take(); }

  std::uint64_t attribute_table() {
    std::uint64_t pairs = image_.size();
    MetaWriter values(options_.codec);
    values.add(pairs_);
    image_.bytes(values.finish());
    std::uint64_t records = image_.size();
    MetaWriter ids(options_.codec);
    ids.add(ByteWriter().u64(0).u32(1).u32(pairs_.size()).view());
    image_.bytes(ids.finish());
    std::uint64_t at = image_.size();
    image_.u64(pairs).u32(1).u32(0).u64(records);
    return at;
  }

  /// Records in metadata blocks, then the list of those blocks' places; returns where the list is.
  std::uint64_t table(const std::vector<Bytes>& records, std::size_t size) {
    std::vector<std::uint64_t> places;
    for (std::size_t i = 0; i < records.size(); i += kMeta / size) {
      places.push_back(image_.size());
      MetaWriter part(options_.codec);
      for (std::size_t k = i; k < std::min(records.size(), i + kMeta / size); ++k) part.add(records[k]);
      image_.bytes(part.finish());
    }
    std::uint64_t at = image_.size();
    for (std::uint64_t place : places) image_.u64(place);
    return at;
  }

  const SampleTree& tree_;
  SquashOptions options_;
  ByteWriter image_;
  MetaWriter inodes_, folders_;
  std::map<std::string, std::uint32_t> numbers_;
  std::map<std::string, Stored> stored_;
  std::uint32_t last_number_ = 0;
  Bytes fragment_, pairs_;
  std::vector<Bytes> fragments_;
};

}  // namespace

Bytes make_squashfs(const SampleTree& tree, const SquashOptions& options) {
  return Writer(tree, options).build();
}

}  // namespace operculum::test
