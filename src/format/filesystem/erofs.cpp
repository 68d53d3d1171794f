// EROFS, after the Linux kernel's documentation (filesystems/erofs) and its disk format header.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "codec/block.h"
#include "codec/codec.h"
#include "container/record_fields.h"
#include "container/trim.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/erofs_map.h"
#include "format/filesystem/erofs_records.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "io/block_content.h"
#include "io/cached_source.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

using namespace erofs;

/// Throws Malformed.
Super read_super(ByteView raw) {
  auto super = read_structure<Super>(raw.data());
  if (super.magic != kMagic) throw Malformed("EROFS superblock: the magic is missing");
  if (super.blkszbits < kLeastBlockBits || super.blkszbits > kMostBlockBits)
    throw Malformed(fmt::format("EROFS superblock: a block size of 2^{} is not possible", super.blkszbits));
  return super;
}

std::uint32_t as_nanoseconds(std::uint32_t stored) {
  return stored < 1'000'000'000 ? stored : 0;
}

struct Inode {
  std::uint64_t number = 0, at = 0, size = 0, data_at = 0;  // data_at: behind the inode and its attributes
  std::uint32_t mode = 0, uid = 0, gid = 0, links = 0, word = 0;
  unsigned layout = 0;
  std::uint64_t attributes_at = 0, attributes_size = 0;
  Timestamp modified;
};

class ErofsContainer final : public FileTree {
 public:
  ErofsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    Bytes raw = read_exactly(*image_, kSuperAt, kSuperSize, "EROFS superblock");
    super_ = read_super(raw);
    if (std::uint32_t unknown = super_.feature_incompat & ~std::uint32_t{known_features}; unknown != 0)
      throw Unsupported(fmt::format("EROFS feature bits {:#x}", unknown));
    if ((super_.feature_compat & kHasChecksum) != 0) check_sum();
    compare_sizes(*this, image_->size(), super_.blocks * super_.block_size());
  }

  std::optional<Trimmed> trimmed(Look look) override {
    return without_end(image_, super_.blocks * super_.block_size(), super_.block_size(), look);
  }

  Facts facts() override {
    Facts out;
    std::string_view label = as_text(super_.volume_name);
    label = until_zero(label);
    if (!label.empty()) out.emplace_back("label", label);
    out.emplace_back("uuid", uuid_text(super_.uuid));
    out.emplace_back("made", to_text(from_unix(static_cast<std::int64_t>(super_.build_time))));
    out.emplace_back("used", size_fact(super_.blocks * super_.block_size()));
    out.emplace_back("block", fmt::format("{} bytes", super_.block_size()));
    return out;
  }

 protected:
  NodeRef root() override { return {super_.root_nid}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    Inode inode = read_inode(folder.a);
    if ((inode.mode & 0xF000) != 0x4000) throw Malformed("EROFS: a folder's inode is of another kind");
    if (inode.size > image_->size())
      throw Malformed(fmt::format("EROFS: a folder of {} bytes is larger than the image", inode.size));
    SourcePtr data = content_of(inode)->source();
    std::string wrong;
    for (std::uint64_t at = 0; at < inode.size; at += super_.block_size()) {
      Bytes block = read_up_to(*data, at, super_.block_size());
      try {
        rows_of(block, detail, sink);
      } catch (const Malformed& error) {
        wrong = error.what();
      }
      if (block.size() < super_.block_size()) break;
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

  ContentPtr open(const Entry&, NodeRef ref) override { return content_of(read_inode(ref.a)); }

 private:
  void check_sum() {
    std::uint64_t length =
        super_.block_size() > kSuperAt ? super_.block_size() - kSuperAt : super_.block_size();
    Bytes all = read_up_to(*image_, kSuperAt, length);
    constexpr std::size_t kSumAt = place_of(&Super::checksum).at;
    std::fill_n(all.begin() + kSumAt, 4, Byte{0});
    if (std::uint32_t own = crc32c(~0U, all); !sum_fits(own, super_.checksum))
      add_finding(Finding::Level::fault,
                  "the superblock does not fit its checksum" + told_sums(super_.checksum, own));
  }

  Inode read_inode(std::uint64_t number) const {
    Inode n;
    n.number = number;
    n.at = checked_add(super_.meta_blkaddr * super_.block_size(),
                       checked_mul(number, kInodeSlot, "an inode number"), "an inode's place");
    Bytes raw = read_exactly(*meta_, n.at, size_on_disk<CompactInode>, "EROFS inode");
    auto compact = read_structure<CompactInode>(raw.data());
    constexpr std::uint16_t kExtended = 1;  // in i_format
    bool is_long = (compact.i_format & kExtended) != 0;
    n.layout = (compact.i_format >> 1) & 7;
    if (n.layout > in_chunks) throw Unsupported(fmt::format("EROFS data layout {}", n.layout));
    n.mode = compact.i_mode;
    if (is_long) {
      raw = read_exactly(*meta_, n.at, size_on_disk<ExtendedInode>, "EROFS inode");
      auto inode = read_structure<ExtendedInode>(raw.data());
      n.word = inode.i_u;
      n.size = inode.i_size;
      n.uid = inode.i_uid;
      n.gid = inode.i_gid;
      n.modified = from_unix(static_cast<std::int64_t>(inode.i_mtime), as_nanoseconds(inode.i_mtime_nsec));
      n.links = inode.i_nlink;
    } else {
      n.word = compact.i_u;
      n.size = compact.i_size;
      n.uid = compact.i_uid;
      n.gid = compact.i_gid;
      n.modified =
          from_unix(static_cast<std::int64_t>(super_.build_time), as_nanoseconds(super_.build_time_nsec));
      n.links = compact.i_nlink;
    }
    n.attributes_at = n.at + raw.size();
    std::uint64_t count = compact.i_xattr_icount;  // in words of 4 bytes, the head as one
    n.attributes_size = count == 0 ? 0 : size_on_disk<AttributesHead> + (count - 1) * 4;
    n.data_at = n.attributes_at + n.attributes_size;
    return n;
  }

  // ---- data

  ContentPtr content_of(const Inode& inode) {
    switch (inode.layout) {
      case packed_full:
      case packed_compact:
        return packed(inode);
      case in_chunks:
        return make_content(chunks(inode));
      default:
        return make_content(flat_file(inode));
    }
  }

  SourcePtr flat_file(const Inode& inode) const {
    std::vector<Extent> extents;
    std::uint64_t at = std::uint64_t{inode.word} * super_.block_size();
    std::uint64_t tail = inode.layout == flat_inline ? inode.size % super_.block_size() : 0;
    if (inode.size > tail) extents.push_back({0, at, inode.size - tail});
    if (tail > 0) {
      if (inode.data_at / super_.block_size() != (inode.data_at + tail - 1) / super_.block_size())
        throw Malformed("EROFS: the end of a file that is kept behind its inode crosses a block");
      extents.push_back({inode.size - tail, inode.data_at, tail});
    }
    return make_extent_source(image_, std::move(extents), inode.size);
  }

  SourcePtr chunks(const Inode& inode) const {
    bool indexed = (inode.word & kChunkIndexes) != 0;
    std::uint64_t chunk = super_.block_size() << (inode.word & kChunkBits);
    std::uint64_t width = indexed ? size_on_disk<ChunkIndex> : 4;
    std::uint64_t at = (inode.data_at + width - 1) / width * width;
    std::vector<Extent> extents;
    for (std::uint64_t done = 0; done < inode.size; done += std::min(chunk, inode.size - done), at += width) {
      Bytes raw = read_exactly(*meta_, at, width, "EROFS chunk index");
      ChunkIndex index = indexed ? read_structure<ChunkIndex>(raw.data())
                                 : ChunkIndex{0, load_little<std::uint32_t>(raw.data())};
      if (index.blkaddr == ChunkIndex::kHole) continue;
      if (index.device_id != 0) throw Unsupported("EROFS images spread over several devices");
      std::uint64_t block = index.blkaddr;
      extents.push_back({done, block * super_.block_size(), std::min(chunk, inode.size - done)});
    }
    return make_extent_source(image_, std::move(extents), inode.size);
  }

  /// The size of the file that holds fragments, which has none itself.
  std::uint64_t fragments_for(const Inode& inode) const {
    bool has = super_.packed_nid != 0 && inode.number != super_.packed_nid;
    return has ? read_inode(super_.packed_nid).size : 0;
  }

  ContentPtr packed(const Inode& inode) {
    PackedFile file{inode.size, (inode.data_at + 7) / 8 * 8, static_cast<std::uint32_t>(super_.block_size()),
                    inode.layout == packed_compact, fragments_for(inode)};
    std::vector<Block> blocks = map_blocks(*meta_, file);
    if (inode.number == super_.packed_nid && std::any_of(blocks.begin(), blocks.end(), [](const Block& one) {
          return one.tag == fragment_packing;
        }))
      throw Malformed("EROFS: the file that holds the fragments refers to itself");
    auto self = std::static_pointer_cast<ErofsContainer>(shared_from_this());
    return make_block_content(std::move(blocks),
                              [self](const Block& block, ByteSpan out) { self->decode(block, out); });
  }

  void decode(const Block& block, ByteSpan out) {
    if (block.tag == fragment_packing) {
      std::call_once(fragments_opened_, [this] {
        if (super_.packed_nid != 0) fragments_ = content_of(read_inode(super_.packed_nid))->source();
      });
      if (!fragments_ || fragments_->read_at(block.stored_offset, out) < out.size())
        throw Malformed("EROFS: a fragment is not within the file that holds them");
      return;
    }
    if (block.tag == shifted_packing || block.tag == interlaced_packing) return plain(block, out);
    if (block.stored_size > (1 << 20))
      throw Malformed(fmt::format("EROFS: a packed cluster of {} bytes is not possible", block.stored_size));
    thread_local Bytes raw;
    raw.resize(static_cast<std::size_t>(block.stored_size));
    std::size_t got = image_->read_at(block.stored_offset, raw);
    if (got < raw.size())
      throw CutShort(
          fmt::format("EROFS cluster at offset {}: {} of {} bytes are there; the image is cut short",
                      block.stored_offset, got, raw.size()));
    ByteView data(raw);
    if ((super_.feature_incompat & zero_padding) != 0 || block.tag != lz4_packing) {  // padding comes first
      auto first = std::find_if(data.begin(), data.end(), [](Byte b) { return b != 0; });
      data = data.subspan(static_cast<std::size_t>(first - data.begin()));
    }
    static constexpr BlockCodec kCodecs[] = {BlockCodec::lz4_partial, BlockCodec::micro_lzma};
    std::size_t count = 0;
    if (block.tag < std::size(kCodecs)) {
      count = decode_block(kCodecs[block.tag], data, out);
    } else {  // as a stream, for only the front of a shared cluster may be wanted
      StreamPtr stream = open_decoder(block.tag == deflate_packing ? "deflate" : "zstd",
                                      make_source_stream(make_memory_source({data.begin(), data.end()})));
      count = read_fully(*stream, out);
    }
    if (count < out.size())
      throw Malformed(fmt::format("EROFS cluster at offset {}: {} bytes come out, {} are expected",
                                  block.stored_offset, count, out.size()));
  }

  void plain(const Block& block, ByteSpan out) const {
    std::size_t turned = block.tag == interlaced_packing
                             ? static_cast<std::size_t>(block.unpacked_offset % super_.block_size())
                             : 0;
    std::size_t front =
        turned == 0 ? out.size() : std::min<std::size_t>(out.size(), super_.block_size() - turned);
    std::size_t got = image_->read_at(block.stored_offset + turned, out.first(front));
    if (front < out.size()) got += image_->read_at(block.stored_offset, out.subspan(front));
    if (got < out.size())
      throw CutShort(
          fmt::format("EROFS cluster at offset {}: {} of {} bytes are there; the image is cut short",
                      block.stored_offset, got, out.size()));
  }

  // ---- folders

  void rows_of(ByteView block, Detail detail, const TreeSink& sink) {
    LittleFields f(block, "EROFS folder block");
    constexpr std::size_t kRow = size_on_disk<FolderRow>;
    auto row_at = [&](std::size_t i) { return read_structure<FolderRow>(f.bytes(i * kRow, kRow).data()); };
    std::size_t first = row_at(0).nameoff;
    if (first < kRow || first % kRow != 0 || first > block.size())
      throw Malformed(
          fmt::format("EROFS folder block: expected the first name at a multiple of {} up to {}, found {}",
                      kRow, block.size(), first));
    std::size_t count = first / kRow;
    for (std::size_t i = 0; i < count; ++i) {
      FolderRow one = row_at(i);
      std::size_t end = i + 1 < count ? row_at(i + 1).nameoff : block.size();
      if (end < one.nameoff) throw Malformed("EROFS folder block: names overlap");
      std::string_view name = f.text(one.nameoff, end - one.nameoff);
      name = until_zero(name);
      if (name == "." || name == "..") continue;
      row(one.nid, one.file_type, name, detail, sink);
    }
  }

  void row(std::uint64_t number, unsigned type, std::string_view name, Detail detail, const TreeSink& sink) {
    TreeItem item;
    item.ref = {number};
    item.entry.path = name;
    if (auto kind = kind_of_type(type); kind && detail == Detail::paths) {
      item.entry.kind = *kind;
      return sink(std::move(item));
    }
    add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, read_inode(number)); });
  }

  void fill(TreeItem& item, const Inode& inode) {
    Entry& entry = item.entry;
    entry.kind = kind_of_mode(inode.mode);
    entry.mode = inode.mode & 07777;
    entry.modified = inode.modified;
    EntryExtra& extra = entry.extras();
    extra.user_id = inode.uid;
    extra.group_id = inode.gid;
    read_attributes(inode, extra);
    bool packed_data = inode.layout == packed_full || inode.layout == packed_compact;
    if (entry.kind == EntryKind::file) {
      entry.size = inode.size;
      entry.method = packed_data ? "packed" : "stored";
      entry.stored_size = packed_data ? Entry::kUnknownSize : inode.size;
      if (inode.layout == in_chunks) entry.flags |= Entry::sparse;
      if (inode.links > 1) item.link_id = inode.number + 1;
    } else if (entry.kind == EntryKind::symbolic_link) {
      extra.link_target =
          as_text(read_up_to(*content_of(inode)->source(), 0, std::min<std::uint64_t>(inode.size, 65536)));
    } else if (entry.kind != EntryKind::folder) {
      set_device(extra, inode.word);
    }
  }

  void read_attributes(const Inode& inode, EntryExtra& extra) const {
    if (inode.attributes_size == 0) return;
    Bytes raw = read_exactly(*meta_, inode.attributes_at, inode.attributes_size, "EROFS attributes");
    LittleFields f(raw, "EROFS attributes", inode.attributes_at);
    constexpr std::size_t kHead = size_on_disk<AttributesHead>, kMostShared = 4 + 255 + 65536;
    std::size_t shared = structure_at<AttributesHead>(f, 0).h_shared_count;
    for (std::size_t i = 0; i < shared; ++i) {
      std::uint64_t place =
          super_.xattr_blkaddr * super_.block_size() + std::uint64_t{f.u32(kHead + i * 4)} * 4;
      Bytes one = read_up_to(*meta_, place, kMostShared);
      add_attribute(LittleFields(one, "EROFS shared attribute", place), 0, extra);
    }
    constexpr std::size_t kEntry = size_on_disk<AttributeEntry>;
    for (std::size_t at = kHead + shared * 4; at + kEntry <= raw.size();) {
      auto entry = read_structure<AttributeEntry>(raw.data() + at);
      if (entry.e_name_len == 0 && entry.e_value_size == 0) break;
      at = add_attribute(f, at, extra);
    }
  }

  std::size_t add_attribute(const LittleFields& f, std::size_t at, EntryExtra& extra) const {
    static constexpr std::string_view kPrefixes[] = {
        "",        "user.",    "system.posix_acl_access", "system.posix_acl_default", "trusted.",
        "lustre.", "security."};
    constexpr std::size_t kEntry = size_on_disk<AttributeEntry>;
    auto entry = read_structure<AttributeEntry>(f.bytes(at, kEntry).data());
    std::size_t index = entry.e_name_index, value_at = at + kEntry + entry.e_name_len;
    bool is_long = (index & AttributeEntry::kLongPrefix) != 0;
    std::string name = is_long ? long_prefix(index & ~std::size_t{AttributeEntry::kLongPrefix})
                       : index < std::size(kPrefixes) ? std::string(kPrefixes[index])
                                                      : "";
    name += f.text(at + kEntry, entry.e_name_len);
    extra.attributes.emplace_back(std::move(name), f.text(value_at, entry.e_value_size));
    return (value_at + entry.e_value_size + 3) / 4 * 4;
  }

  /// Prefixes of the image's own: a length, the number of a usual one, and what follows it.
  std::string long_prefix(std::size_t wanted) const {
    std::uint64_t at = std::uint64_t{super_.xattr_prefix_start} * 4;
    for (std::size_t i = 0;
         (super_.feature_incompat & attribute_prefixes) != 0 && i < super_.xattr_prefix_count; ++i) {
      std::uint64_t size = load_little<std::uint16_t>(read_exactly(*meta_, at, 2, "EROFS prefix").data());
      if (i == wanted && size > 0) {
        Bytes raw = read_exactly(*meta_, at + 2, size, "EROFS prefix");
        static constexpr std::string_view kBases[] = {"",         "user.",   "",         "",
                                                      "trusted.", "lustre.", "security."};
        return std::string(raw[0] < std::size(kBases) ? kBases[raw[0]] : "") +
               std::string(as_text(raw).substr(1));
      }
      at = (at + 2 + size + 3) / 4 * 4;
    }
    return "";
  }

  SourcePtr image_, meta_;
  Super super_;
  std::once_flag fragments_opened_;
  SourcePtr fragments_;
};

Match recognise_erofs(Probe& probe) {
  Bytes raw = probe.at(kSuperAt, kSuperSize);
  if (raw.size() < kSuperSize) return Match::none;
  auto super = read_structure<Super>(raw.data());
  bool fits =
      super.magic == kMagic && super.blkszbits >= kLeastBlockBits && super.blkszbits <= kMostBlockBits;
  return fits ? Match::front : Match::none;
}

ContainerPtr open_erofs(const Input& input, OpenContext& context) {
  return std::make_shared<ErofsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format erofs_format() {
  return {
      .id = "erofs",
      .name = "EROFS file system",
      .family = "file system",
      .specification = "Linux kernel documentation, filesystems/erofs",
      .reads =
          "plain, inline and chunked files; LZ4, LZMA, deflate and zstd; full and compact indexes, big "
          "clusters, "
          "inlined ends, fragments, shared clusters; extended attributes, also shared ones and long prefixes",
      .lacks = "images spread over several devices; 48-bit addresses and metadata boxes",
      .suffixes = {".erofs"},
      .recognise = recognise_erofs,
      .open = open_erofs,
      .records = {record_at<Super>("superblock", kSuperAt)}};
}

}  // namespace operculum
