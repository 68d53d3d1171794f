// FAT12, FAT16 and FAT32, after the FAT file system specification (ECMA-107 for the first two) with long
// names (VFAT).
#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"
#include "format/filesystem/fat_table.h"
#include "format/filesystem/file_tree.h"
#include "format/formats.h"

namespace operculum {
namespace {

constexpr std::size_t kBoot = 512, kRow = 32;
constexpr std::string_view kWithDeleted = "with-deleted";
constexpr std::uint64_t kLongestFolder = 65536 * kRow;  // in bytes
constexpr std::uint64_t kCountUpTo = 1 << 22;           // clusters

enum Attribute : std::uint8_t { kReadOnly = 1, kVolume = 8, kFolder = 16, kLongName = 15 };

struct Boot {
  fat::Geometry geometry;
  std::uint64_t sector = 0, size = 0;        // bytes
  std::uint64_t root_at = 0, root_size = 0;  // of a root folder outside the clusters
  std::uint32_t root_cluster = 0, serial = 0;
  std::uint64_t info_at = 0;
  unsigned tables = 0;
  std::uint8_t media = 0;
  std::string label;
};

bool is_power_of_two(std::uint64_t value) {
  return value != 0 && (value & (value - 1)) == 0;
}

/// Throws Malformed unless the numbers are those of a FAT volume.
Boot read_boot(ByteView raw) {
  LittleFields f(raw, "FAT boot sector");
  Boot b;
  b.sector = f.u16(11);
  std::uint64_t per_cluster = f.u8(13), reserved = f.u16(14), root_rows = f.u16(17);
  b.tables = f.u8(16);
  std::uint64_t sectors = f.u16(19) != 0 ? f.u16(19) : f.u32(32);
  b.media = f.u8(21);
  std::uint64_t table = f.u16(22);
  bool wide = table == 0;
  if (wide) table = f.u32(36);
  bool jump = f.u8(0) == 0xEB || f.u8(0) == 0xE9;
  if (!jump || b.sector < 512 || b.sector > 4096 || !is_power_of_two(b.sector) ||
      !is_power_of_two(per_cluster) || reserved == 0 || b.tables == 0 || b.tables > 4 ||
      (b.media != 0xF0 && b.media < 0xF8) || sectors == 0 || table == 0)
    throw Malformed("FAT boot sector: its numbers are not those of a FAT volume");
  std::uint64_t root = (root_rows * kRow + b.sector - 1) / b.sector;
  std::uint64_t before = reserved + b.tables * table + root;
  if (before >= sectors) throw Malformed("FAT boot sector: nothing is left for files");
  std::uint64_t clusters = (sectors - before) / per_cluster;
  b.geometry.bits = wide ? 32 : clusters < 4085 ? 12 : 16;
  b.geometry.table_at = reserved * b.sector;
  b.geometry.table_size = table * b.sector;
  b.geometry.heap_at = before * b.sector;
  b.geometry.cluster_size = per_cluster * b.sector;
  std::uint64_t numbered = b.geometry.table_size * 8 / b.geometry.bits;
  b.geometry.clusters = static_cast<std::uint32_t>(
      std::min({clusters, numbered > 2 ? numbered - 2 : 0, std::uint64_t{0x0FFFFFF0}}));
  b.size = sectors * b.sector;
  b.root_at = (reserved + b.tables * table) * b.sector;
  b.root_size = wide ? 0 : root_rows * kRow;
  b.root_cluster = wide ? f.u32(44) : 0;
  if (wide) b.info_at = std::uint64_t{f.u16(48)} * b.sector;
  std::size_t extended = wide ? 66 : 38;
  if (f.u8(extended) == 0x29 || f.u8(extended) == 0x28) {
    b.serial = f.u32(extended + 1);
    if (f.u8(extended) == 0x29) b.label = trim(f.text(extended + 5, 11));
  }
  return b;
}

/// The parts of a long name, which come before their file, last part first.
class LongName {
 public:
  void add(const LittleFields& row) {
    unsigned order = row.u8(0);
    if ((order & 0x40) != 0) {
      units_.clear();
      sum_ = row.u8(13);
      expected_ = order & 0x1F;
    }
    if ((order & 0x1F) != expected_ || expected_ == 0 || row.u8(13) != sum_) return forget();
    --expected_;
    std::string part;
    for (auto [at, count] : {std::pair{1, 10}, {14, 12}, {28, 4}})
      part += row.text(static_cast<std::size_t>(at), static_cast<std::size_t>(count));
    units_ = part + units_;
  }
  void forget() {
    units_.clear();
    expected_ = 99;
  }
  /// The name, when it belongs to the file of this short name.
  std::optional<std::string> take(std::string_view short_name) {
    std::uint8_t sum = 0;
    for (char c : short_name)
      sum = static_cast<std::uint8_t>(((sum & 1) << 7) + (sum >> 1) + static_cast<std::uint8_t>(c));
    std::string units = std::move(units_);
    bool fits = expected_ == 0 && sum == sum_ && !units.empty();
    forget();
    if (!fits) return std::nullopt;
    for (std::size_t i = 0; i + 1 < units.size(); i += 2) {
      if (units[i] == 0 && units[i + 1] == 0) units.resize(i);
    }
    return to_utf8(units, "UTF-16LE");
  }

 private:
  std::string units_;
  std::uint8_t sum_ = 0;
  unsigned expected_ = 99;
};

class FatContainer final : public FileTree {
 public:
  FatContainer(SourcePtr volume, OpenContext& context)
      : FileTree(context.limits),
        volume_(std::move(volume)),
        boot_(read_boot(read_exactly(*volume_, 0, kBoot, "FAT boot sector"))),
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

  std::vector<std::pair<std::string, std::string>> facts() override {
    std::vector<std::pair<std::string, std::string>> out;
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

 protected:
  NodeRef root() override { return {boot_.root_cluster}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    SourcePtr data = folder_data(static_cast<std::uint32_t>(folder.a));
    LongName long_name;
    constexpr std::uint64_t kPart = 512 * kRow;
    for (std::uint64_t at = 0; at < data->size(); at += kPart) {
      Bytes part = read_up_to(*data, at, kPart);
      if (part.empty()) throw CutShort("the image is cut short within the folder");
      for (std::size_t i = 0; i + kRow <= part.size(); i += kRow) {
        LittleFields row(ByteView(part).subspan(i, kRow), "FAT folder entry", at + i);
        if (row.u8(0) == 0) return;
        take_row(row, long_name, sink);
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

  void take_row(const LittleFields& row, LongName& long_name, const TreeSink& sink) {
    std::uint8_t first = row.u8(0), attributes = row.u8(11);
    bool deleted = first == 0xE5;
    if ((attributes & 0x3F) == kLongName) {
      if (!deleted) long_name.add(row);
      return;
    }
    if ((attributes & kVolume) != 0 || (deleted && !with_deleted_)) return long_name.forget();
    std::string raw(row.text(0, 11));
    if (first == 0x05) raw[0] = '\xE5';
    if (raw.starts_with(". ") || raw.starts_with(".. ")) return;
    std::optional<std::string> name = deleted ? std::nullopt : long_name.take(row.text(0, 11));
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = name ? *name : short_name(raw, row.u8(12), deleted);
    std::uint32_t cluster = row.u16(26) | (boot_.geometry.bits == 32 ? std::uint32_t{row.u16(20)} << 16 : 0);
    item.ref = {cluster, deleted ? 1U : 0U};
    entry.kind = (attributes & kFolder) != 0 ? EntryKind::folder : EntryKind::file;
    if (entry.kind == EntryKind::folder && deleted) return;
    if (entry.kind == EntryKind::folder && cluster < 2)
      return add_damaged(std::move(item), "it has no cluster", sink);
    if (deleted) entry.flags |= Entry::recovered;
    if ((attributes & kReadOnly) != 0) entry.mode = entry.kind == EntryKind::folder ? 0555 : 0444;
    entry.modified = from_dos(row.u16(24), row.u16(22));
    if (row.u16(16) != 0) entry.extras().created = from_dos(row.u16(16), row.u16(14));
    if (entry.kind == EntryKind::file) entry.size = entry.stored_size = row.u32(28);
    sink(std::move(item));
  }

  /// "CRAB    PNG" in the encoding that was asked for; two bits tell which halves were typed in small
  /// letters.
  std::string short_name(const std::string& raw, std::uint8_t cases, bool deleted) const {
    std::string stem = raw.substr(0, 8), ending = raw.substr(8, 3);
    if (deleted) stem[0] = '_';
    auto clean = [](std::string& part) { part.resize(part.find_last_not_of(' ') + 1); };
    clean(stem);
    clean(ending);
    if ((cases & 0x08) != 0) stem = to_lower(stem);
    if ((cases & 0x10) != 0) ending = to_lower(ending);
    std::string name = ending.empty() ? stem : stem + "." + ending;
    return is_ascii(name) ? name : to_utf8(name, encoding_).value_or(name);
  }

  std::string root_label() {
    try {
      Bytes rows = read_up_to(*folder_data(boot_.root_cluster), 0, kLongestFolder);
      for (std::size_t i = 0; i + kRow <= rows.size() && rows[i] != 0; i += kRow) {
        if (rows[i] != 0xE5 && (rows[i + 11] & 0x18) == kVolume && rows[i + 11] != kLongName) {
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
        Bytes info = read_exactly(*volume_, boot_.info_at, kBoot, "FAT information sector");
        LittleFields f(info, "FAT information sector");
        constexpr std::uint32_t kLead = 0x41615252, kSecond = 0x61417272;
        if (f.u32(0) == kLead && f.u32(484) == kSecond && f.u32(488) <= boot_.geometry.clusters)
          return f.u32(488);
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
  fat::Table table_;
  std::string encoding_;
  bool with_deleted_;
};

Match recognise_fat(Probe& probe) {
  ByteView head = probe.head(kBoot);
  if (head.size() < kBoot) return Match::none;
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
          .suffixes = {".fat", ".vfat", ".flp"},
          .views = {kWithDeleted},
          .recognise = recognise_fat,
          .open = open_fat};
}

}  // namespace operculum
