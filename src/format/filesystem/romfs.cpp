// romfs, after the Linux kernel's documentation (filesystems/romfs).
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/checksum.h"
#include "base/structure_fields.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "container/trim.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "io/cached_source.h"

namespace operculum {
namespace {

constexpr std::string_view kMagic = "-rom1fs-";
constexpr std::size_t kMaxName = 4096, kSummed = 512, kLeastSize = 32;

/// What begins the volume: its mark, its size, a checksum; the name follows.
struct RomSuper {
  std::array<Byte, 8> magic{};
  std::uint32_t size = 0, checksum = 0;
  static constexpr auto layout =
      big_endian(field("magic", &RomSuper::magic), field("full size", &RomSuper::size),
                 field("checksum", &RomSuper::checksum));
};
/// A file's header; the place of the next one has the type and whether it may be run in its last four bits.
struct RomHeader {
  std::uint32_t next = 0, spec = 0, size = 0, checksum = 0;
  static constexpr auto layout =
      big_endian(field("next filehdr", &RomHeader::next), field("spec.info", &RomHeader::spec),
                 field("size", &RomHeader::size), field("checksum", &RomHeader::checksum));
  static constexpr std::uint32_t kTypeBits = 7, kExecutable = 8, kFlagBits = 15;
};

struct Header {
  std::uint64_t at = 0, next = 0, spec = 0, size = 0, data_at = 0;
  unsigned type = 0;
  bool executable = false;
  std::uint32_t sum = 0;  // of all its words; 0 where it is right
  std::string name;
};

constexpr std::uint64_t kDeviceBlock = 1024;  // images fill up to a multiple of it

std::uint64_t padded(std::uint64_t size) {
  return (size + 15) / 16 * 16;
}

std::uint32_t sum_of(ByteView words) {
  std::uint32_t sum = 0;
  BigFields f(words, "romfs");
  for (std::size_t at = 0; at + 4 <= words.size(); at += 4) sum += f.u32(at);
  return sum;
}

class RomContainer final : public FileTree {
 public:
  RomContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), image_(std::move(image)), meta_(make_cached(image_)) {
    size_ =
        read_structure<RomSuper>(read_exactly(*image_, 0, size_on_disk<RomSuper>, "romfs superblock").data())
            .size;
    name_ = name_at(size_on_disk<RomSuper>, first_);
    if (std::uint32_t sum = sum_of(read_up_to(*image_, 0, std::min<std::uint64_t>(kSummed, size_))); sum != 0)
      add_finding(Finding::Level::fault, "the superblock does not fit its checksum" + told_total(sum));
    if (image_->size() < size_ || image_->size() >= padded(size_) + kDeviceBlock)
      compare_sizes(*this, image_->size(), size_);
  }

  std::optional<Trimmed> trimmed(Look look) override {
    return without_end(image_, size_, kDeviceBlock, look);
  }

  Facts facts() override { return {{"label", name_}, {"used", size_fact(size_)}}; }

 protected:
  NodeRef root() override { return {first_}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    std::unordered_set<std::uint64_t> seen;
    for (std::uint64_t at = folder.a; at != 0;) {
      if (!seen.insert(at).second) throw Malformed("romfs: a folder's headers form a loop");
      Header header = read_header(at);
      if (header.name != "." && header.name != "..") row(header, sink);
      at = header.next;
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Header header = read_header(ref.a);
    if (image_->size() < header.data_at + header.size)
      throw CutShort(fmt::format("romfs file at offset {}: {} bytes are missing; the image is cut short",
                                 header.at, header.data_at + header.size - image_->size()));
    return make_content(make_slice(image_, header.data_at, header.size));
  }

 private:
  /// A name that ends with a zero byte and is padded to 16 bytes; `behind` is where what follows begins.
  std::string name_at(std::uint64_t at, std::uint64_t& behind) const {
    Bytes raw = read_up_to(*meta_, at, kMaxName);
    auto end = std::find(raw.begin(), raw.end(), Byte{0});
    if (end == raw.end()) throw Malformed(fmt::format("romfs: the name at offset {} does not end", at));
    std::string name(raw.begin(), end);
    behind = at + padded(name.size() + 1);
    return name;
  }

  Header read_header(std::uint64_t at) const {
    auto stored =
        read_structure<RomHeader>(read_exactly(*meta_, at, size_on_disk<RomHeader>, "romfs header").data());
    Header h;
    h.at = at;
    h.next = stored.next & ~RomHeader::kFlagBits;
    h.type = stored.next & RomHeader::kTypeBits;
    h.executable = (stored.next & RomHeader::kExecutable) != 0;
    h.spec = stored.spec;
    h.size = stored.size;
    h.name = name_at(at + size_on_disk<RomHeader>, h.data_at);
    h.sum = sum_of(read_up_to(*meta_, at, h.data_at - at));
    return h;
  }

  void row(const Header& header, const TreeSink& sink) {
    static constexpr EntryKind kKinds[] = {
        EntryKind::hard_link,    EntryKind::folder,           EntryKind::file,   EntryKind::symbolic_link,
        EntryKind::block_device, EntryKind::character_device, EntryKind::socket, EntryKind::fifo};
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = header.name;
    entry.kind = kKinds[header.type];
    item.ref = {header.type == 1 ? header.spec : header.at};
    Header target = header;
    if (entry.kind == EntryKind::hard_link) {
      target = read_header(header.spec);
      if (target.type != 2) return;  // a second name of a folder, as "." and ".." are
      entry.kind = EntryKind::file;
      item.ref = {target.at};
    }
    entry.mode = entry.kind == EntryKind::folder || target.executable ? 0755 : 0644;
    if (header.sum != 0) {
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault, fmt::format("\"{}\": its header does not fit its checksum{}",
                                                     escape(header.name), told_total(header.sum)));
    }
    if (entry.kind == EntryKind::file) {
      entry.size = entry.stored_size = target.size;
      entry.stored_at = target.data_at;
      item.link_id = target.at;
    } else if (entry.kind == EntryKind::symbolic_link) {
      entry.extras().link_target =
          as_text(read_up_to(*meta_, header.data_at, std::min<std::uint64_t>(header.size, kMaxName)));
    } else if (entry.kind == EntryKind::block_device || entry.kind == EntryKind::character_device) {
      entry.extras().device_major = static_cast<std::uint32_t>(header.spec >> 16);
      entry.extras().device_minor = static_cast<std::uint32_t>(header.spec & 0xFFFF);
    }
    sink(std::move(item));
  }

  SourcePtr image_, meta_;
  std::uint64_t size_ = 0, first_ = 0;
  std::string name_;
};

Match recognise_romfs(Probe& probe) {
  ByteView head = probe.head(kSummed);
  if (head.size() < kLeastSize || !starts_with(head, kMagic)) return Match::none;
  std::uint64_t size = read_structure<RomSuper>(head.data()).size;
  ByteView summed = head.first(static_cast<std::size_t>(std::min<std::uint64_t>(head.size(), size)));
  return size >= kLeastSize && sum_fits(sum_of(summed), 0) ? Match::front : Match::weak;
}

ContainerPtr open_romfs(const Input& input, OpenContext& context) {
  return std::make_shared<RomContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format romfs_format() {
  return {.id = "romfs",
          .name = "romfs file system",
          .family = "file system",
          .specification = "Linux kernel documentation, filesystems/romfs",
          .reads = "all entry kinds, hard links, checksums of headers",
          .lacks = "",
          .suffixes = {".romfs"},
          .recognise = recognise_romfs,
          .open = open_romfs,
          .records = {record_at<RomSuper>("superblock", 0)}};
}

}  // namespace operculum
