// UDF 1.02 to 2.60 on ECMA-167.
#include "format/filesystem/udf.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/udf_volume.h"

namespace operculum {
namespace {

using namespace udf;

constexpr std::uint64_t kRecognitionAt = 32768, kSector = 2048;
constexpr std::string_view kIsoViews[] = {"rock-ridge", "joliet", "plain", "first-session"};

enum FileType : std::uint8_t {
  folder_type = 4,
  file_type = 5,
  block_type = 6,
  character_type = 7,
  fifo_type = 9,
  socket_type = 10,
  link_type = 12,
  real_time_type = 249
};

class UdfContainer final : public FileTree {
 public:
  UdfContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits),
        size_(image->size()),
        volume_(std::move(image),
                [this](Finding::Level level, std::string text) { add_finding(level, std::move(text)); }) {}

  Facts facts() override {
    Facts out;
    if (!volume_.label.empty()) out.emplace_back("label", volume_.label);
    out.emplace_back("revision", volume_.revision);
    if (volume_.total_blocks > 0) {
      out.emplace_back(
          "used", size_fact((volume_.total_blocks - std::min(volume_.free_blocks, volume_.total_blocks)) *
                            volume_.block_size()));
      out.emplace_back("free", size_fact(volume_.free_blocks * volume_.block_size()));
    }
    if (volume_.recorded.known()) out.emplace_back("written", to_text(volume_.recorded));
    return out;
  }

 protected:
  NodeRef root() override { return {volume_.root().block, volume_.root().partition}; }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    FileEntry own = volume_.entry(address(folder));
    if (own.type != folder_type)
      throw Malformed(fmt::format("UDF block {}: its file entry is not a folder's", own.at.block));
    SourcePtr data = volume_.data(own);
    constexpr std::size_t kHead = size_on_disk<FileIdentifier>, kUsual = kHead + 255 + 64;
    for (std::uint64_t at = 0; at + kHead <= own.size;) {
      Bytes raw = read_up_to(*data, at, kUsual);
      if (raw.size() < kHead) throw CutShort("the image is cut short within the folder");
      auto one = read_structure<FileIdentifier>(raw.data());
      std::size_t length = (kHead + one.name_length + one.use_length + 3) / 4 * 4;
      if (length > raw.size()) raw = read_up_to(*data, at, length);
      if (length > raw.size() || !has_tag(ByteView(raw).first(length), file_identifier_tag))
        throw Malformed(fmt::format(
            "UDF folder at block {}: the entry at byte {} is damaged; what follows it is not listed",
            own.at.block, at));
      row(one, ByteView(raw).subspan(kHead + one.use_length, one.name_length), detail, sink);
      at += length;
    }
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    return make_content(volume_.data(volume_.entry(address(ref))));
  }

 private:
  static Address address(NodeRef ref) {
    return {static_cast<std::uint32_t>(ref.a), static_cast<std::uint16_t>(ref.b)};
  }

  void row(const FileIdentifier& one, ByteView name, Detail detail, const TreeSink& sink) {
    enum : std::uint8_t {
      directory_characteristic = 2,
      deleted_characteristic = 4,
      parent_characteristic = 8
    };
    if ((one.about & (deleted_characteristic | parent_characteristic)) != 0) return;
    TreeItem item;
    item.entry.path = unicode_of(name);
    Address at{one.block, one.partition};
    item.ref = {at.block, at.partition};
    if ((one.about & directory_characteristic) != 0) item.entry.kind = EntryKind::folder;
    if (detail == Detail::paths && (one.about & directory_characteristic) != 0) return sink(std::move(item));
    add_filled(std::move(item), sink, [&](TreeItem& filled) { fill(filled, volume_.entry(at)); });
  }

  void fill(TreeItem& item, const FileEntry& file) {
    static constexpr std::pair<std::uint8_t, EntryKind> kKinds[] = {
        {folder_type, EntryKind::folder},
        {block_type, EntryKind::block_device},
        {character_type, EntryKind::character_device},
        {fifo_type, EntryKind::fifo},
        {socket_type, EntryKind::socket},
        {link_type, EntryKind::symbolic_link},
        {real_time_type, EntryKind::file},
        {file_type, EntryKind::file},
    };
    Entry& entry = item.entry;
    for (auto [type, kind] : kKinds) {
      if (type == file.type) entry.kind = kind;
    }
    entry.modified = file.modified;
    entry.mode = mode_of(file);
    EntryExtra& extra = entry.extras();
    extra.user_id = file.uid == 0xFFFFFFFF ? 0 : file.uid;
    extra.group_id = file.gid == 0xFFFFFFFF ? 0 : file.gid;
    extra.accessed = file.accessed;
    extra.created = file.created;
    extra.changed = file.changed;
    extra.device_major = file.device_major;
    extra.device_minor = file.device_minor;
    if (entry.kind == EntryKind::symbolic_link) {
      extra.link_target = target_of(file);
    } else if (entry.kind == EntryKind::file) {
      entry.size = file.size;
      entry.stored_size =
          file.embedded() ? file.size : std::min(file.size, file.blocks * volume_.block_size());
      if (entry.stored_size < entry.size) entry.flags |= Entry::sparse;
      if (file.links > 1) item.link_id = (std::uint64_t{file.at.partition} << 32) + file.at.block + 1;
    }
  }

  /// Permissions in three groups of five bits (ECMA-167, 4/14.9.5); the set-id bits are among the flags.
  static std::uint32_t mode_of(const FileEntry& file) {
    std::uint32_t p = file.permissions;
    std::uint32_t mode = (p & 7) | (((p >> 5) & 7) << 3) | (((p >> 10) & 7) << 6);
    constexpr std::uint16_t kSetUser = 0x40, kSetGroup = 0x80, kSticky = 0x100;
    if ((file.flags & kSetUser) != 0) mode |= 04000;
    if ((file.flags & kSetGroup) != 0) mode |= 02000;
    if ((file.flags & kSticky) != 0) mode |= 01000;
    return mode;
  }

  /// Path components (ECMA-167, 4/14.16).
  std::string target_of(const FileEntry& file) const {
    Bytes raw = read_up_to(*volume_.data(file), 0, std::min<std::uint64_t>(file.size, 65536));
    LittleFields f(raw, "UDF path component");
    enum : std::uint8_t { root_by_agreement_component = 1, root_component, up_component, here_component };
    std::string target;
    constexpr std::size_t kHead = size_on_disk<PathComponent>;
    for (std::size_t at = 0; at + kHead <= raw.size();) {
      auto part = read_structure<PathComponent>(raw.data() + at);
      if (part.type == root_by_agreement_component || part.type == root_component) {
        target = "/";
      } else {
        if (!target.empty() && !target.ends_with('/')) target += '/';
        target += part.type == up_component     ? ".."
                  : part.type == here_component ? "."
                                                : unicode_of(f.bytes(at + kHead, part.length));
      }
      at += kHead + part.length;
    }
    return target;
  }

  std::uint64_t size_;
  Volume volume_;
};

/// Looks for the marks of ECMA-167 among the volume recognition descriptors.
bool has_mark(Probe& probe) {
  for (std::uint64_t stride : {kSector, std::uint64_t{4096}}) {
    for (unsigned i = 0; i < 16; ++i) {
      Bytes raw = probe.at(kRecognitionAt + i * stride, 7);
      if (raw.size() < 7) break;
      std::string_view id = as_text(raw).substr(1, 5);
      if (id == "NSR02" || id == "NSR03") return true;
      if (id != "BEA01" && id != "CD001" && id != "BOOT2" && id != "TEA01" && id != "CDW02") break;
    }
  }
  return false;
}

/// Whether an ISO 9660 tree with Rock Ridge is there, too: it tells more than most UDF trees on such discs.
bool has_rock_ridge(Probe& probe) {
  Bytes volume = probe.at(kRecognitionAt, kSector);
  if (volume.size() < kSector || as_text(volume).substr(1, 5) != "CD001") return false;
  Bytes own = probe.at(load_little<std::uint32_t>(volume.data() + 158) * kSector, 255);
  return as_text(own).find("SP\x07\x01\xBE\xEF") != std::string_view::npos;
}

Match recognise_udf(Probe& probe) {
  return has_mark(probe) && !has_rock_ridge(probe) ? Match::front : Match::none;
}

ContainerPtr open_udf_format(const Input& input, OpenContext& context) {
  if (std::find(std::begin(kIsoViews), std::end(kIsoViews), context.view) != std::end(kIsoViews))
    return iso_format().open(input, context);
  return open_udf(random_access(*input.content, context.spool), context);
}

/// Sectors have one of four sizes.
PlacedFields shown_anchor(Probe& probe) {
  constexpr std::uint64_t kAnchor = 256;
  for (std::uint64_t sector : {2048, 512, 1024, 4096}) {
    Bytes raw = probe.at(kAnchor * sector, size_on_disk<TagRecord>);
    if (raw.size() < size_on_disk<TagRecord>) continue;
    auto tag = read_structure<TagRecord>(raw.data());
    if (tag.identifier == anchor_tag) return fields_at<AnchorRecord>(probe, kAnchor * sector);
  }
  return {};
}

}  // namespace

ContainerPtr open_udf(SourcePtr image, OpenContext& context) {
  return std::make_shared<UdfContainer>(std::move(image), context);
}

Format udf_format() {
  return {.id = "udf",
          .name = "UDF file system",
          .family = "file system",
          .specification = "ECMA-167 3rd edition; UDF 2.60",
          .reads =
              "1.02 to 2.60: plain, virtual, sparable and metadata partitions; embedded files, holes; "
              "unicode names, links, devices; "
              "reserve descriptors; sectors of 512 to 4096 bytes; on discs with ISO 9660, too, the richer "
              "tree (--view udf or joliet)",
          .lacks = "strategy 4096 of write-once discs; named streams; extended allocation descriptors",
          .suffixes = {".udf", ".iso"},
          .views = {"udf"},
          .recognise = recognise_udf,
          .open = open_udf_format,
          .records = {{"anchor", shown_anchor}}};
}

}  // namespace operculum
