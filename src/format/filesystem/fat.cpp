// FAT12, FAT16 and FAT32, after the FAT file system specification (ECMA-107 for the first two) with long
// names (VFAT).
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/fat_boot.h"
#include "format/filesystem/fat_folder.h"
#include "format/filesystem/fat_rewrite.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"

namespace operculum {
namespace {

using namespace fat;

constexpr std::string_view kWithDeleted = "with-deleted";
constexpr std::uint64_t kLongestFolder = kMostRows * kRowSize;  // in bytes
constexpr std::uint64_t kCountUpTo = 1 << 22;                   // clusters

class FatContainer final : public FileTree {
 public:
  FatContainer(SourcePtr volume, OpenContext& context)
      : FileTree(context.limits),
        volume_(std::move(volume)),
        boot_(read_boot(read_exactly(*volume_, 0, kBootSize, "FAT boot sector"))),
        table_(volume_, boot_.geometry),
        encoding_(context.names_in.empty() ? "CP437" : context.names_in),
        with_deleted_(context.view == kWithDeleted) {
    compare_sizes(*this, volume_->size(), boot_.size);
    compare_tables();
    constexpr std::uint32_t kClean16 = 0x8000, kClean32 = 0x08000000;
    if (boot_.geometry.bits > 12 && volume_->size() > boot_.geometry.table_at + 8) {
      std::uint32_t state = table_.entry(1);
      if ((state & (boot_.geometry.bits == 16 ? kClean16 : kClean32)) == 0)
        add_finding(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
    }
  }

  Facts facts() override {
    Facts out;
    std::string label = root_label();
    if (label.empty() && boot_.label != "NO NAME") label = boot_.label;
    if (!label.empty()) out.emplace_back("label", label);
    out.emplace_back("version", fmt::format("FAT{}", boot_.geometry.bits));
    out.emplace_back("serial", fmt::format("{:04X}-{:04X}", boot_.serial >> 16, boot_.serial & 0xFFFF));
    out.emplace_back("capacity", size_fact(boot_.size));
    if (auto free = free_clusters()) {
      out.emplace_back("used", size_fact((boot_.geometry.clusters -
                                          std::min<std::uint64_t>(*free, boot_.geometry.clusters)) *
                                         boot_.geometry.cluster_size));
      out.emplace_back("free", size_fact(*free * boot_.geometry.cluster_size));
    }
    out.emplace_back("cluster", fmt::format("{} bytes", boot_.geometry.cluster_size));
    return out;
  }

  /// What does not change stays where it lies.
  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (with_deleted_) throw Unsupported("writing a FAT volume whose deleted files are shown");
    if (changes.empty()) return unchanged(volume_);
    TreeNode tree = changed_tree(*this, changes);
    OldVolume volume{volume_, boot_, encoding_};
    OldEntries old{entries(),
                   [this](std::size_t index) { return static_cast<std::uint32_t>(ref_of(index).a); }};
    return fat::rewrite(volume, old, changes.removed, tree, writing.spool);
  }

 protected:
  NodeRef root() override { return {boot_.root_cluster}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    SourcePtr data = folder_data(static_cast<std::uint32_t>(folder.a));
    FolderReader rows;
    constexpr std::uint64_t kPart = 512 * kRowSize;
    for (std::uint64_t at = 0; at < data->size(); at += kPart) {
      Bytes part = read_up_to(*data, at, kPart);
      if (part.empty()) throw CutShort("the image is cut short within the folder");
      for (std::size_t i = 0; i + kRowSize <= part.size(); i += kRowSize) {
        if (part[i] == kEnd) return;
        auto item = rows.take(ByteView(part).subspan(i, kRowSize), at + i);
        if (item && (!item->deleted || with_deleted_)) take_item(*item, sink);
      }
    }
  }

  ContentPtr open(const Entry& entry, NodeRef ref) override {
    if (entry.size == 0) return make_content(make_memory_source({}));
    auto first = static_cast<std::uint32_t>(ref.a);
    std::vector<Extent> extents =
        ref.b != 0 ? table_.run(first, entry.size) : table_.chain(first, entry.size);
    std::uint64_t reached = extents.empty() ? 0 : extents.back().logical + extents.back().length;
    return make_content(make_extent_source(volume_, std::move(extents), reached));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return to_lower(stored) == to_lower(wanted);
  }

 private:
  SourcePtr folder_data(std::uint32_t cluster) const {
    if (cluster == 0) return make_slice(volume_, boot_.root_at, boot_.root_size);
    std::vector<Extent> extents = table_.chain(cluster, kLongestFolder);
    std::uint64_t size = extents.empty() ? 0 : extents.back().logical + extents.back().length;
    return make_extent_source(volume_, std::move(extents), size);
  }

  void take_item(const FolderItem& found, const TreeSink& sink) {
    const Row& row = found.row;
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = name_of(found);
    std::uint32_t cluster = found.cluster(boot_.geometry.bits);
    item.ref = {cluster, found.deleted ? 1U : 0U};
    entry.kind = (row.attributes & folder_row) != 0 ? EntryKind::folder : EntryKind::file;
    if (entry.kind == EntryKind::folder && found.deleted) return;
    if (entry.kind == EntryKind::folder && cluster < 2)
      return add_damaged(std::move(item), "it has no cluster", sink);
    if (found.deleted) entry.flags |= Entry::recovered;
    if ((row.attributes & read_only) != 0) entry.mode = entry.kind == EntryKind::folder ? 0555 : 0444;
    entry.modified = from_dos(row.date, row.time);
    if (row.created_date != 0) entry.extras().created = from_dos(row.created_date, row.created_time);
    if (entry.kind == EntryKind::file) entry.size = entry.stored_size = row.size;
    sink(std::move(item));
  }

  std::string name_of(const FolderItem& item) const {
    if (item.long_name) return *item.long_name;
    return short_name_text(item.raw_name(), item.row.cases, item.deleted, encoding_);
  }

  std::string root_label() {
    try {
      Bytes rows = read_up_to(*folder_data(boot_.root_cluster), 0, kLongestFolder);
      for (std::size_t i = 0; i + kRowSize <= rows.size() && rows[i] != kEnd; i += kRowSize) {
        auto row = read_structure<Row>(rows.data() + i);
        bool is_label =
            (row.attributes & (volume_label | folder_row)) == volume_label && row.attributes != long_name;
        if (rows[i] != kDeleted && is_label) {
          std::string raw(trim(as_text(rows).substr(i, 11)));
          return is_ascii(raw) ? raw : to_utf8(raw, encoding_).value_or(raw);
        }
      }
    } catch (const Malformed&) {
      return "";  // listing tells of it
    }
    return "";
  }

  std::optional<std::uint64_t> free_clusters() const {
    try {
      if (boot_.info_at != 0) {
        auto info = read_structure<InfoRecord>(
            read_exactly(*volume_, boot_.info_at, size_on_disk<InfoRecord>, "FAT information sector").data());
        if (info.is_whole() && info.free <= boot_.geometry.clusters) return info.free;
      }
      if (boot_.geometry.clusters <= kCountUpTo) return table_.free_clusters();
    } catch (const Malformed&) {
    }
    return std::nullopt;
  }

  void compare_tables() {
    constexpr std::uint64_t kCompareUpTo = 1 << 20;
    std::uint64_t size = boot_.geometry.table_size;
    if (boot_.tables < 2 || size > kCompareUpTo) return;
    if (read_up_to(*volume_, boot_.geometry.table_at, size) !=
        read_up_to(*volume_, boot_.geometry.table_at + size, size))
      add_finding(Finding::Level::warning, "the two allocation tables differ; the first is used");
  }

  SourcePtr volume_;
  Boot boot_;
  Table table_;
  std::string encoding_;
  bool with_deleted_;
};

Match recognise_fat(Probe& probe) {
  ByteView head = probe.head(kBootSize);
  if (head.size() < kBootSize || (head[0] != 0xEB && head[0] != 0xE9)) return Match::none;
  try {
    Boot boot = read_boot(head);
    Bytes table = probe.at(boot.geometry.table_at, 3);
    bool marked = table.size() == 3 && table[0] == boot.media && table[1] == 0xFF;
    return marked || (head[510] == 0x55 && head[511] == 0xAA) ? Match::front : Match::none;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_fat(const Input& input, OpenContext& context) {
  return std::make_shared<FatContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format fat_format() {
  return {.id = "fat",
          .name = "FAT file system",
          .family = "file system",
          .specification = "ECMA-107; FAT32 file system specification 1.03",
          .reads = "FAT12, FAT16, FAT32; long names; code pages; deleted files with --view with-deleted",
          .lacks = "",
          .writes = "files and folders where they lie, larger ones into free clusters; volumes from scratch",
          .suffixes = {".fat", ".vfat", ".flp"},
          .views = {kWithDeleted},
          .own_order = true,
          .recognise = recognise_fat,
          .open = open_fat,
          .pack = pack_fat,
          .keeps = {.links = false, .hard_links = false, .modes = false, .owners = false},
          .records = {record_at<BootRecord>("boot sector", 0)}};
}

}  // namespace operculum
