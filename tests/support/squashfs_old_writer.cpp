#include "support/squashfs_old_writer.h"

#include <algorithm>
#include <map>

#include "base/numbers.h"
#include "support/bit_writer.h"
#include "support/block_packer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kOldMeta = 8192;
constexpr std::uint32_t kOldStored = 1U << 24, kNoFragment = ~0U;
constexpr unsigned kSameGroup = 255;

/// Structures as a compiler of the image's machine lays them out.
class Fields {
 public:
  explicit Fields(bool big) : big_(big), bits_(big) {}
  Fields& put(std::uint64_t value, unsigned width) {
    if (width > 32) {
      std::uint64_t low = value & 0xFFFFFFFF, high = value >> 32;
      bits_.put(static_cast<std::uint32_t>(big_ ? high : low), 32);
      bits_.put(static_cast<std::uint32_t>(big_ ? low : high), 32);
    } else {
      bits_.put(static_cast<std::uint32_t>(value), width);
    }
    return *this;
  }
  Fields& text(std::string_view text) {
    for (char c : text) put(static_cast<Byte>(c), 8);
    return *this;
  }
  Bytes take() { return bits_.take(); }

 private:
  bool big_;
  BitWriter bits_;
};

class OldWriter {
 public:
  OldWriter(const SampleTree& tree, const OldSquashOptions& options) : tree_(tree), o_(options) {}

  Bytes build() {
    image_.resize(wide() ? 119 : 63);
    store_data();
    for (const SampleNode& node : tree_) numbers_[node.path] = ++last_number_;
    numbers_[""] = ++last_number_;
    Placed root = folder("");
    std::uint64_t inode_table = append(inodes_.finish(*this));
    std::uint64_t folder_table = append(folders_.finish(*this));
    std::uint64_t fragment_table = write_fragments();
    std::uint64_t users = append(Fields(o_.big).put(0, 32).put(1000, 32).take());
    std::uint64_t groups = append(Fields(o_.big).put(100, 32).take());
    std::uint64_t used = image_.size();
    unsigned log = 0;
    while (1U << log < o_.block) ++log;
    Fields super(o_.big);
    super.put(0x73717368, 32).put(last_number_, 32);
    for (std::uint64_t place : {used, users, groups, inode_table, folder_table})
      super.put(wide() ? 0 : place, 32);
    super.put(o_.major, 16).put(1, 16).put(std::min<std::uint32_t>(o_.block, 32768), 16).put(log, 16);
    super.put((o_.marked ? 4 : 0) | (o_.fragments ? 0 : 0x10), 8).put(2, 8).put(1, 8).put(1772373908, 32);
    super.put(root.reference, 64)
        .put(o_.block, 32)
        .put(fragments_.size(), 32)
        .put(wide() ? 0 : fragment_table, 32);
    if (wide()) {
      for (std::uint64_t place :
           {used, users, groups, inode_table, folder_table, fragment_table, ~std::uint64_t{0}})
        super.put(place, 64);
    }
    Bytes front = super.take();
    std::copy(front.begin(), front.end(), image_.begin());
    image_.resize((image_.size() + 4095) / 4096 * 4096);
    return image_;
  }

 private:
  struct Stored {
    std::uint64_t start = 0;
    std::vector<std::uint32_t> words;
    std::uint32_t fragment = kNoFragment, offset = 0;
  };
  struct Placed {
    std::uint64_t reference = 0;
    std::uint32_t number = 0;
    unsigned type = 0;
  };

  /// Metadata in packed blocks.
  class Meta {
   public:
    std::uint64_t reference() const { return std::uint64_t{out_.size()} << 16 | pending_.size(); }
    void add(const OldWriter& writer, ByteView bytes) {
      pending_.insert(pending_.end(), bytes.begin(), bytes.end());
      while (pending_.size() >= kOldMeta) flush(writer, kOldMeta);
    }
    Bytes finish(const OldWriter& writer) {
      if (!pending_.empty()) flush(writer, pending_.size());
      return std::move(out_);
    }

   private:
    void flush(const OldWriter& writer, std::size_t count) {
      ByteView plain = ByteView(pending_).first(count);
      Bytes packed = writer.pack(plain);
      bool stored = packed.size() >= count;
      if (stored) packed.assign(plain.begin(), plain.end());
      append_number(out_, 2, packed.size() | (stored ? 0x8000 : 0),
                    writer.o_.big ? std::endian::big : std::endian::little);
      if (writer.o_.marked) out_.push_back(0xFF);
      out_.insert(out_.end(), packed.begin(), packed.end());
      pending_.erase(pending_.begin(), pending_.begin() + static_cast<std::ptrdiff_t>(count));
    }
    Bytes pending_, out_;
  };

  bool wide() const { return o_.major == 3; }

  Bytes pack(ByteView plain) const {
    using Packing = OldSquashOptions::Packing;
    if (o_.packing == Packing::zlib) return pack_block(BlockCodec::zlib, plain);
    Bytes bare = pack_block(BlockCodec::micro_lzma, plain);
    bare[0] = 0;
    Bytes out;
    if (o_.packing != Packing::lzma_bare) {
      out.push_back(93);
      append_number(out, 4, 1 << 20);
    }
    if (o_.packing == Packing::lzma) append_number(out, 8, plain.size());
    out.insert(out.end(), bare.begin(), bare.end());
    return out;
  }

  std::uint64_t append(const Bytes& bytes) {
    std::uint64_t at = image_.size();
    image_.insert(image_.end(), bytes.begin(), bytes.end());
    return at;
  }

  std::uint32_t store(ByteView plain) {
    Bytes packed = pack(plain);
    bool stored = packed.size() >= plain.size();
    append(stored ? Bytes(plain.begin(), plain.end()) : packed);
    return static_cast<std::uint32_t>(stored ? plain.size() | kOldStored : packed.size());
  }

  void store_data() {
    for (const SampleNode& node : tree_) {
      if (node.kind != EntryKind::file) continue;
      Stored one;
      one.start = image_.size();
      ByteView rest(node.data);
      while (!rest.empty() && !(o_.fragments && rest.size() < o_.block)) {
        ByteView part = rest.first(std::min<std::size_t>(o_.block, rest.size()));
        one.words.push_back(store(part));
        rest = rest.subspan(part.size());
      }
      if (!rest.empty()) {
        if (tails_.size() + rest.size() > o_.block) end_fragment();
        one.fragment = static_cast<std::uint32_t>(fragments_.size());
        one.offset = static_cast<std::uint32_t>(tails_.size());
        tails_.insert(tails_.end(), rest.begin(), rest.end());
      }
      stored_[node.path] = one;
    }
    end_fragment();
  }

  void end_fragment() {
    if (tails_.empty()) return;
    std::uint64_t at = image_.size();
    std::uint32_t word = store(tails_);
    Fields record(o_.big);
    record.put(at, wide() ? 64 : 32).put(word, 32);
    if (wide()) record.put(0, 32);
    fragments_.push_back(record.take());
    tails_.clear();
  }

  std::uint64_t write_fragments() {
    std::vector<std::uint64_t> places;
    std::size_t a_block = wide() ? 512 : 1024;
    for (std::size_t i = 0; i < fragments_.size(); i += a_block) {
      Meta part;
      for (std::size_t k = i; k < std::min(fragments_.size(), i + a_block); ++k)
        part.add(*this, fragments_[k]);
      places.push_back(append(part.finish(*this)));
    }
    Fields list(o_.big);
    for (std::uint64_t place : places) list.put(place, wide() ? 64 : 32);
    return append(list.take());
  }

  Fields head(const SampleNode& node, unsigned type) {
    Fields out(o_.big);
    out.put(type, 4).put(node.permissions(), 12).put(node.user == 0 ? 0 : 1, 8);
    out.put(node.group == 0 ? kSameGroup : 0, 8);
    if (wide()) out.put(static_cast<std::uint64_t>(node.time), 32).put(numbers_[node.path], 32);
    return out;
  }

  Placed other(const SampleNode& node) {
    unsigned type = node.kind == EntryKind::file            ? (o_.indexed && wide() ? 9 : 2)
                    : node.kind == EntryKind::symbolic_link ? 3
                    : node.kind == EntryKind::fifo          ? 6
                                                            : 5;
    Placed placed{inodes_.reference(), numbers_[node.path], type == 9 ? 2 : type};
    Fields out = head(node, type);
    if (node.kind == EntryKind::file) {
      const Stored& one = stored_[node.path];
      if (type == 9) out.put(1, 32);
      if (!wide()) out.put(static_cast<std::uint64_t>(node.time), 32);
      out.put(one.start, wide() ? 64 : 32).put(one.fragment, 32).put(one.offset, 32);
      out.put(node.data.size(), type == 9 ? 64 : 32);
      for (std::uint32_t word : one.words) out.put(word, 32);
    } else {
      if (wide()) out.put(1, 32);
      if (node.kind == EntryKind::symbolic_link) out.put(node.target.size(), 16).text(node.target);
      if (type == 5) out.put(0x0501, 16);
    }
    inodes_.add(*this, out.take());
    return placed;
  }

  Placed folder(const std::string& path) {
    std::vector<std::size_t> children = children_by_name(tree_, path);
    std::vector<Placed> placed;
    for (std::size_t child : children)
      placed.push_back(tree_[child].kind == EntryKind::folder ? folder(tree_[child].path)
                                                              : other(tree_[child]));
    std::uint64_t at = folders_.reference(), size = 0, links = 2;
    for (std::size_t i = 0; i < children.size();) {
      std::uint64_t block = placed[i].reference >> 16;
      std::size_t end = i;
      while (end < children.size() && end - i < 256 && placed[end].reference >> 16 == block) ++end;
      Fields out(o_.big);
      out.put(end - i - 1, 8).put(block, wide() ? 32 : 24);
      if (wide()) out.put(placed[i].number, 32);
      for (std::size_t base = i; i < end; ++i) {
        const std::string name = tree_[children[i]].name();
        out.put(placed[i].reference & 0xFFFF, 13).put(placed[i].type, 3).put(name.size() - 1, 8);
        if (wide()) out.put(placed[i].number - placed[base].number & 0xFFFF, 16);
        out.text(name);
        links += placed[i].type == 1 ? 1 : 0;
      }
      Bytes rows = out.take();
      size += rows.size();
      folders_.add(*this, rows);
    }
    SampleNode own = folder_node(tree_, path);
    Placed result{inodes_.reference(), numbers_[path], 1};
    Fields out = head(own, o_.indexed ? 8 : 1);
    if (wide()) out.put(links, 32);
    out.put(size + (wide() ? 3 : 0), o_.indexed ? 27 : 19).put(at & 0xFFFF, 13);
    if (!wide()) out.put(static_cast<std::uint64_t>(own.time), 32);
    out.put(at >> 16, wide() ? 32 : 24);
    if (o_.indexed) out.put(0, 16);
    if (wide()) out.put(last_number_ + 1, 32);
    inodes_.add(*this, out.take());
    return result;
  }

  const SampleTree& tree_;
  OldSquashOptions o_;
  Bytes image_, tails_;
  Meta inodes_, folders_;
  std::map<std::string, std::uint32_t> numbers_;
  std::map<std::string, Stored> stored_;
  std::uint32_t last_number_ = 0;
  std::vector<Bytes> fragments_;
};

}  // namespace

Bytes make_old_squashfs(const SampleTree& tree, const OldSquashOptions& options) {
  return OldWriter(tree, options).build();
}

}  // namespace operculum::test
