// cramfs, after the Linux kernel's documentation (filesystems/cramfs) and its disk format header. Written in
// the byte order of the machine that made it: both are read.
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/bit_structure.h"
#include "base/numbers.h"
#include "base/structure.h"
#include "base/text.h"
#include "codec/block.h"
#include "container/probe_reader.h"
#include "container/record_fields.h"
#include "container/trim.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "io/block_content.h"
#include "io/cached_source.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic = 0x28CD3D45;
constexpr std::string_view kSignature = "Compressed ROMFS";
constexpr std::uint64_t kBlock = 4096;
constexpr std::uint32_t kUncompressed = 1U << 31, kDirect = 1U << 30, kPointerFlags = kUncompressed | kDirect;

enum Flag : std::uint32_t {
  has_identity = 0x1,
  wrong_signature_flag = 0x200,
  extended_pointers_flag = 0x800,
  known_flags = 0xF03
};

/// struct cramfs_super, in the order of the machine that made it; the root's inode follows.
struct Super {
  std::uint32_t magic = 0, size = 0, flags = 0, future = 0;
  std::array<Byte, 16> signature{};
  std::uint32_t crc = 0, edition = 0, blocks = 0, files = 0;
  std::array<Byte, 16> name{};
  static constexpr auto layout = little_endian(
      field("magic", &Super::magic), field("size", &Super::size), field("flags", &Super::flags),
      field("future", &Super::future), field("signature", &Super::signature), field("fsid.crc", &Super::crc),
      field("fsid.edition", &Super::edition), field("fsid.blocks", &Super::blocks),
      field("fsid.files", &Super::files), field("name", &Super::name));
};
constexpr std::size_t kRootAt = size_on_disk<Super>;

/// struct cramfs_inode; the name follows.
struct Inode {
  std::uint64_t mode = 0, uid = 0, size = 0, gid = 0, namelen = 0, offset_words = 0;
  static constexpr BitField<Inode> layout[] = {
      {"mode", &Inode::mode, 16}, {"uid", &Inode::uid, 16},        {"size", &Inode::size, 24},
      {"gid", &Inode::gid, 8},    {"namelen", &Inode::namelen, 6}, {"offset", &Inode::offset_words, 26}};
  std::uint64_t name_length() const { return namelen * 4; }  ///< bytes
  std::uint64_t offset() const { return offset_words * 4; }  ///< bytes
};
constexpr std::size_t kInodeSize = bit_structure_size<Inode>();

class CramContainer final : public FileTree {
 public:
  CramContainer(const SourcePtr& image, OpenContext& context, std::uint64_t base, bool big)
      : FileTree(context.limits),
        image_(make_slice(image, base, image->size() - base)),
        meta_(make_cached(image_)),
        big_(big) {
    Bytes raw = read_exactly(*image_, 0, kRootAt + kInodeSize, "cramfs superblock");
    auto super = read_structure<Super>(raw.data(), order());
    size_ = super.size;
    flags_ = super.flags;
    name_ = until_zero(as_text(super.name));
    if (std::uint32_t unknown = flags_ & ~std::uint32_t{known_flags}; unknown != 0)
      throw Unsupported(fmt::format("cramfs feature bits {:#x}", unknown));
    if ((flags_ & wrong_signature_flag) != 0)
      add_finding(Finding::Level::warning, "it is marked as having a wrong signature");
    if (image_->size() < size_ || image_->size() >= size_ + kBlock)
      compare_sizes(*this, image_->size(), size_);
  }

  std::optional<Trimmed> trimmed(Look look) override { return without_end(image_, size_, kBlock, look); }

  Facts facts() override {
    Facts out;
    if (!name_.empty()) out.emplace_back("label", name_);
    out.emplace_back("used", size_fact(size_));
    out.emplace_back("order", big_ ? "big-endian" : "little-endian");
    return out;
  }

 protected:
  NodeRef root() override { return {kRootAt}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    if ((inode.mode & 0xF000) != 0x4000) throw Malformed("cramfs: a folder's inode is of another kind");
    for (std::uint64_t at = inode.offset(), end = inode.offset() + inode.size; at + kInodeSize <= end;) {
      Inode child = read_inode(at);
      if (child.namelen == 0) throw Malformed(fmt::format("cramfs inode at offset {}: it has no name", at));
      Bytes name = read_exactly(*meta_, at + kInodeSize, child.name_length(), "cramfs name");
      row(at, child, as_text(name), sink);
      at += kInodeSize + child.name_length();
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return content_of(read_inode(ref.a)); }

 private:
  std::endian order() const { return big_ ? std::endian::big : std::endian::little; }

  Inode read_inode(std::uint64_t at) const {
    Bytes raw = read_exactly(*meta_, at, kInodeSize, "cramfs inode");
    return read_bit_structure<Inode>(raw.data(), order());
  }

  ContentPtr content_of(const Inode& inode) {
    std::uint64_t count = (inode.size + kBlock - 1) / kBlock;
    constexpr std::size_t kPointer = sizeof(std::uint32_t);
    Bytes table = read_exactly(*meta_, inode.offset(), count * kPointer, "cramfs block pointers");
    std::uint64_t at = inode.offset() + table.size();
    std::vector<Block> blocks;
    for (std::uint64_t i = 0; i < count; ++i) {
      auto pointer = static_cast<std::uint32_t>(load_number(table.data() + i * kPointer, kPointer, order()));
      Block block{i * kBlock, std::min<std::uint64_t>(kBlock, inode.size - i * kBlock), at, 0, 0};
      if ((flags_ & extended_pointers_flag) == 0) {
        block.stored_size = pointer - std::min<std::uint64_t>(pointer, at);
        at = pointer;
      } else {
        place_extended(pointer, block, at);
      }
      if (block.stored_size > 2 * kBlock)
        throw Malformed(fmt::format("cramfs: a packed block of {} bytes is not possible", block.stored_size));
      block.hole = block.stored_size == 0;
      blocks.push_back(block);
    }
    auto self = std::static_pointer_cast<CramContainer>(shared_from_this());
    return make_block_content(std::move(blocks),
                              [self](const Block& block, ByteSpan out) { self->decode(block, out); });
  }

  /// Pointers whose two upper bits tell of blocks stored plainly or elsewhere.
  void place_extended(std::uint32_t pointer, Block& block, std::uint64_t& at) const {
    bool plain = (pointer & kUncompressed) != 0;
    std::uint64_t target = pointer & ~kPointerFlags;
    if ((pointer & kDirect) != 0) {
      block.stored_offset = target * 4;
      block.stored_size = block.unpacked_size;
      if (!plain) {
        constexpr std::size_t kLength = sizeof(std::uint16_t);
        Bytes raw = read_exactly(*meta_, block.stored_offset, kLength, "cramfs block");
        block.stored_size = load_number(raw.data(), kLength, order());
        block.stored_offset += kLength;
      }
      at = block.stored_offset + block.stored_size;
    } else {
      block.stored_size = target - std::min(target, at);
      at = target;
    }
    block.tag = plain ? 1 : 0;
  }

  void decode(const Block& block, ByteSpan out) const {
    if (block.stored_size == 0) {
      std::fill(out.begin(), out.end(), Byte{0});
      return;
    }
    Bytes packed = read_exactly(*image_, block.stored_offset, block.stored_size, "cramfs block");
    std::size_t count = decode_block(block.tag != 0 ? BlockCodec::stored : BlockCodec::zlib, packed, out);
    if (count < out.size())
      throw Malformed(fmt::format("cramfs block at offset {}: {} bytes come out, {} are expected",
                                  block.stored_offset, count, out.size()));
  }

  void row(std::uint64_t at, const Inode& inode, std::string_view name, const TreeSink& sink) {
    TreeItem item;
    item.ref = {at};
    Entry& entry = item.entry;
    entry.path = until_zero(name);
    entry.kind = kind_of_mode(inode.mode);
    entry.mode = inode.mode & 07777;
    entry.method = "zlib";
    EntryExtra& extra = entry.extras();
    extra.user_id = inode.uid;
    extra.group_id = inode.gid;
    std::string wrong;
    if (entry.kind == EntryKind::file) {
      entry.size = inode.size;
    } else if (entry.kind == EntryKind::symbolic_link) {
      try {
        extra.link_target =
            as_text(read_up_to(*content_of(inode)->source(), 0, std::min<std::uint32_t>(inode.size, 65536)));
      } catch (const Malformed& error) {
        wrong = error.what();
      }
    } else if (entry.kind != EntryKind::folder) {
      extra.device_major = (inode.size >> 8) & 0xFF;
      extra.device_minor = inode.size & 0xFF;
    }
    if (!wrong.empty()) return add_damaged(std::move(item), wrong, sink);
    sink(std::move(item));
  }

  SourcePtr image_, meta_;
  bool big_;
  std::uint64_t size_ = 0;
  std::uint32_t flags_ = 0;
  std::string name_;
};

struct Found {
  std::uint64_t base;
  bool big;
};

/// At the front, or behind a boot block of 512 bytes.
std::optional<Found> find_super(const std::function<Bytes(std::uint64_t, std::size_t)>& read) {
  for (std::uint64_t base : {0, 512}) {
    Bytes raw = read(base, size_on_disk<Super>);
    if (raw.size() < size_on_disk<Super>) continue;
    for (std::endian order : {std::endian::little, std::endian::big}) {
      auto super = read_structure<Super>(raw.data(), order);
      if (super.magic == kMagic && as_text(super.signature) == kSignature)
        return Found{base, order == std::endian::big};
    }
  }
  return std::nullopt;
}

Match recognise_cramfs(Probe& probe) {
  auto found = find_super(reader_of(probe));
  return found ? Match::front : Match::none;
}

ContainerPtr open_cramfs(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  auto found = find_super([&](std::uint64_t at, std::size_t count) { return read_up_to(*image, at, count); });
  if (!found) throw Malformed("cramfs: the magic is missing");
  return std::make_shared<CramContainer>(std::move(image), context, found->base, found->big);
}

PlacedFields shown_super(Probe& probe) {
  auto found = find_super(reader_of(probe));
  if (!found) return {};
  return fields_at<Super>(probe, found->base, found->big ? std::endian::big : std::endian::little);
}

}  // namespace

Format cramfs_format() {
  return {.id = "cramfs",
          .name = "cramfs file system",
          .family = "file system",
          .specification = "Linux kernel documentation, filesystems/cramfs",
          .reads = "both byte orders; holes; extended block pointers; an image behind a boot block",
          .lacks = "blocks of another size than 4096 bytes",
          .suffixes = {".cramfs", ".cram"},
          .recognise = recognise_cramfs,
          .open = open_cramfs,
          .records = {{"superblock", shown_super}}};
}

}  // namespace operculum
