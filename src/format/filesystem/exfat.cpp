// exFAT, after the exFAT file system specification (revision 1.00).
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/exfat_records.h"
#include "format/filesystem/fat_table.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"

namespace operculum {
namespace {

using namespace exfat;

constexpr std::uint64_t kLongestFolder = 256 << 20;

struct Boot {
  fat::Geometry geometry;
  std::uint64_t sector = 0, size = 0;
  std::uint32_t root = 0, serial = 0;
  std::uint16_t flags = 0;
};

/// `at` is where the record lies.
Boot read_boot(const Bytes& bytes, std::uint64_t at) {
  constexpr std::string_view kWhat = "exFAT boot sector";
  auto raw = read_structure<BootRecord>(bytes.data());
  if (as_text(raw.name) != kFileSystemName) throw Malformed("exFAT boot sector: the mark is missing");
  unsigned sector_bits = raw.sector_shift, cluster_bits = raw.cluster_shift;
  if (sector_bits < 9 || sector_bits > 12 || sector_bits + cluster_bits > 25)
    throw Malformed(fmt::format(
        "exFAT boot sector: expected sectors of 2^9 to 2^12 bytes and clusters up to 2^25, found 2^{} and "
        "2^{}",
        sector_bits, sector_bits + cluster_bits));
  constexpr std::uint32_t kMostClusters = 0xFFFFFFF5;
  if (raw.cluster_count == 0 || raw.cluster_count > kMostClusters)
    refuse_field(kWhat, at, &BootRecord::cluster_count, fmt::format("1 to {}", kMostClusters),
                 std::to_string(raw.cluster_count));
  if (raw.fat_offset == 0) refuse_field(kWhat, at, &BootRecord::fat_offset, "behind the boot region", "0");
  if (raw.heap_offset == 0) refuse_field(kWhat, at, &BootRecord::heap_offset, "behind the table", "0");
  Boot b;
  b.sector = std::uint64_t{1} << sector_bits;
  b.size = checked_mul(raw.volume_length, b.sector, "the volume length");
  b.geometry.bits = 32;
  b.geometry.table_at = raw.fat_offset * b.sector;
  b.geometry.table_size = raw.fat_length * b.sector;
  b.geometry.heap_at = raw.heap_offset * b.sector;
  b.geometry.clusters = raw.cluster_count;
  b.geometry.cluster_size = b.sector << cluster_bits;
  b.root = raw.root_cluster;
  b.serial = raw.serial;
  b.flags = raw.flags;
  return b;
}

/// The set of entries that describes one file.
struct FileSet {
  std::uint8_t flags = 0;
  std::uint16_t attributes = 0;
  std::uint64_t valid = 0, size = 0;
  std::uint32_t first = 0;
  Timestamp modified, created, accessed;
  std::string name;
  std::string wrong_sums;  ///< what is told of its checksum where it differs, else empty
};

Timestamp time_of(std::uint32_t stamp, std::uint8_t hundredths, std::uint8_t zone) {
  Timestamp time = from_dos(static_cast<std::uint16_t>(stamp >> 16), static_cast<std::uint16_t>(stamp));
  if (!time.known()) return time;
  if (hundredths < 200) {
    time.seconds += hundredths / 100;
    time.nanoseconds = hundredths % 100 * 10'000'000U;
  }
  if ((zone & 0x80) != 0) {  // quarters of an hour from UTC, seven bits with a sign
    int quarters = (zone & 0x40) != 0 ? (zone & 0x7F) - 128 : zone & 0x7F;
    time.seconds -= quarters * 900;
    time.floating = false;
  }
  return time;
}

class ExfatContainer final : public FileTree {
 public:
  ExfatContainer(SourcePtr volume, OpenContext& context)
      : FileTree(context.limits),
        volume_(std::move(volume)),
        boot_(find_boot()),
        table_(volume_, boot_.geometry) {
    compare_sizes(*this, volume_->size(), boot_.size);
    if ((boot_.flags & volume_dirty) != 0)
      add_finding(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
    if ((boot_.flags & media_failure) != 0)
      add_finding(Finding::Level::warning, "it is marked as having bad clusters");
  }

  Facts facts() override {
    std::string label;
    std::uint64_t used = 0;
    bool counted = false;
    try {
      rows(folder_data(root()), [&](const Bytes& all, std::size_t at) {
        if (all[at] == volume_label) label = label_of(read_structure<LabelRow>(all.data() + at));
        if (all[at] == allocation_bitmap && !counted) {
          auto bitmap = read_structure<BitmapRow>(all.data() + at);
          used = count_bits(bitmap.first_cluster, bitmap.length);
          counted = true;
        }
      });
    } catch (const Malformed&) {
    }
    Facts out;
    if (!label.empty()) out.emplace_back("label", label);
    out.emplace_back("serial", fmt::format("{:04X}-{:04X}", boot_.serial >> 16, boot_.serial & 0xFFFF));
    out.emplace_back("capacity", size_fact(boot_.size));
    if (counted) {
      out.emplace_back("used", size_fact(used * boot_.geometry.cluster_size));
      out.emplace_back("free", size_fact((boot_.geometry.clusters -
                                          std::min<std::uint64_t>(used, boot_.geometry.clusters)) *
                                         boot_.geometry.cluster_size));
    }
    out.emplace_back("cluster", fmt::format("{} bytes", boot_.geometry.cluster_size));
    return out;
  }

 protected:
  NodeRef root() override { return {boot_.root, kLongestFolder << 1}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    std::string wrong;
    rows(folder_data(folder), [&](const Bytes& all, std::size_t at) {
      if (all[at] != file_entry) return;
      try {
        row(read_set(all, at), sink);
      } catch (const Malformed& error) {
        wrong = error.what();
      }
    });
    if (!wrong.empty()) throw Malformed(wrong);
  }

  /// ref.b holds how many bytes were ever written, and whether the clusters lie one after another.
  ContentPtr open(const Entry& entry, NodeRef ref) override {
    std::uint64_t valid = std::min(ref.b >> 1, entry.size);
    return make_content(make_extent_source(volume_, extents(ref, valid), entry.size));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return to_lower(stored) == to_lower(wanted);
  }

 private:
  static std::string label_of(const LabelRow& row) {
    std::size_t letters = std::min<std::size_t>(row.count, row.label.size() / 2);
    return to_utf8(as_text(ByteView(row.label).first(letters * 2)), "UTF-16LE").value_or("");
  }

  Boot find_boot() {
    Bytes first = read_exactly(*volume_, 0, kBootSize, "exFAT boot sector");
    try {
      Boot boot = read_boot(first, 0);
      if (std::string wrong = wrong_sums(0, boot.sector); !wrong.empty())
        add_finding(Finding::Level::warning, "the boot region does not fit its checksum" + wrong);
      return boot;
    } catch (const Malformed&) {
      constexpr std::uint64_t kCopyAt = kBootSectors * kBootSize;
      Boot boot = read_boot(read_exactly(*volume_, kCopyAt, kBootSize, "exFAT backup boot sector"), kCopyAt);
      add_finding(Finding::Level::fault, "the boot sector is damaged; its backup was used");
      return boot;
    }
  }

  /// What is told of the checksum of a boot region; empty where it is right.
  std::string wrong_sums(std::uint64_t at, std::uint64_t sector) const {
    Bytes all = read_up_to(*volume_, at, kBootSectors * sector);
    if (all.size() < kBootSectors * sector) return "";  // cut short, which is told elsewhere
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 11 * sector; ++i) {
      if (is_summed(i)) sum = std::rotr(sum, 1) + all[i];
    }
    auto stored = load_little<std::uint32_t>(all.data() + 11 * sector);
    return sum == stored ? "" : told_sums(stored, sum);
  }

  std::vector<Extent> extents(NodeRef ref, std::uint64_t size) const {
    auto first = static_cast<std::uint32_t>(ref.a);
    if (size == 0) return {};
    std::vector<Extent> out = (ref.b & 1) != 0 ? table_.run(first, size) : table_.chain(first, size);
    if (out.empty() || out.back().logical + out.back().length < size)
      throw Malformed(
          fmt::format("the chain of cluster {} ends before the {} bytes that are stated", first, size));
    return out;
  }

  SourcePtr folder_data(NodeRef ref) const {
    std::uint64_t size = std::min(ref.b >> 1, kLongestFolder);
    auto first = static_cast<std::uint32_t>(ref.a);
    std::vector<Extent> all = (ref.b & 1) != 0 ? table_.run(first, size) : table_.chain(first, size);
    std::uint64_t reached = all.empty() ? 0 : all.back().logical + all.back().length;
    return make_extent_source(volume_, std::move(all), reached);
  }

  /// Calls `take` for each entry of a folder, with the entries that follow in reach.
  void rows(const SourcePtr& data, const std::function<void(const Bytes&, std::size_t)>& take) const {
    constexpr std::size_t kPart = 1 << 16, kLargestSet = 32 * kRowSize;
    for (std::uint64_t at = 0; at < data->size(); at += kPart) {
      Bytes part = read_up_to(*data, at, kPart + kLargestSet);
      if (part.empty()) throw CutShort("the image is cut short within the folder");
      for (std::size_t i = 0; i < kPart && i + kRowSize <= part.size(); i += kRowSize) {
        if (part[i] == 0) return;
        take(part, i);
      }
    }
  }

  static FileSet read_set(const Bytes& all, std::size_t at) {
    constexpr unsigned kLeastRows = 2, kMostRows = 18;  // behind the first
    const Byte* front = all.data() + at;
    auto file = read_structure<FileRow>(front);
    unsigned rest = file.secondary_count;
    if (rest < kLeastRows || rest > kMostRows)
      throw Malformed(
          fmt::format("exFAT file entry at byte {}: {} secondary entries are not possible", at, rest));
    std::size_t size = (rest + 1) * kRowSize;
    if (size > all.size() - at)
      throw CutShort(fmt::format("exFAT file entry at byte {}: it is cut short", at));
    FileSet set;
    std::uint16_t sum = 0;
    for (std::size_t i = 0; i < size; ++i) {
      if (is_set_summed(i)) sum = static_cast<std::uint16_t>(std::rotr(sum, 1) + front[i]);
    }
    if (!sum_fits(sum, file.checksum)) set.wrong_sums = told_sums(file.checksum, sum, 4);
    set.attributes = file.attributes;
    set.created = time_of(file.created, file.created_10ms, file.created_zone);
    set.modified = time_of(file.modified, file.modified_10ms, file.modified_zone);
    set.accessed = time_of(file.accessed, 0, file.accessed_zone);
    auto stream = read_structure<StreamRow>(front + kRowSize);
    if (stream.type != stream_extension)
      throw Malformed(fmt::format("exFAT file entry at byte {}: its stream extension is missing", at));
    set.flags = stream.flags;
    set.valid = stream.valid_length;
    set.first = stream.first_cluster;
    set.size = stream.length;
    const std::size_t letters = stream.name_length;
    std::string units;
    for (std::size_t i = kLeastRows; i <= rest && units.size() < letters * 2; ++i) {
      auto name = read_structure<NameRow>(front + i * kRowSize);
      if (name.type == file_name) units += as_text(name.name);
    }
    units.resize(std::min(units.size(), letters * 2));
    set.name = to_utf8(units, "UTF-16LE").value_or("_");
    return set;
  }

  void row(const FileSet& set, const TreeSink& sink) {
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = set.name;
    entry.kind = (set.attributes & directory) != 0 ? EntryKind::folder : EntryKind::file;
    entry.modified = set.modified;
    entry.extras().created = set.created;
    entry.extras().accessed = set.accessed;
    if ((set.attributes & read_only) != 0) entry.mode = entry.kind == EntryKind::folder ? 0555 : 0444;
    if (entry.kind == EntryKind::file) {
      entry.size = set.size;
      entry.stored_size = std::min(set.valid, set.size);
      if (set.valid < set.size) entry.flags |= Entry::sparse;
    }
    std::uint64_t length = entry.kind == EntryKind::folder ? set.size : set.valid;
    item.ref = {set.first, (std::min(length, std::uint64_t{1} << 62) << 1) |
                               ((set.flags & no_fat_chain) != 0 ? 1U : 0U)};
    if (!set.wrong_sums.empty())
      return add_damaged(std::move(item), "its entry does not fit its checksum" + set.wrong_sums, sink);
    sink(std::move(item));
  }

  std::uint64_t count_bits(std::uint32_t first, std::uint64_t size) const {
    size = std::min<std::uint64_t>(size, (std::uint64_t{boot_.geometry.clusters} + 7) / 8);
    SourcePtr data = make_extent_source(volume_, table_.chain(first, size), size);
    std::uint64_t count = 0;
    for (std::uint64_t at = 0; at < size; at += 1 << 16) {
      for (Byte b : read_up_to(*data, at, std::min<std::uint64_t>(1 << 16, size - at)))
        count += static_cast<unsigned>(std::popcount(b));
    }
    return count;
  }

  SourcePtr volume_;
  Boot boot_;
  fat::Table table_;
};

Match recognise_exfat(Probe& probe) {
  ByteView head = probe.head(kBootSize);
  if (head.size() < kBootSize) return Match::none;
  return as_text(read_structure<BootRecord>(head.data()).name) == kFileSystemName ? Match::front
                                                                                  : Match::none;
}

ContainerPtr open_exfat(const Input& input, OpenContext& context) {
  return std::make_shared<ExfatContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format exfat_format() {
  return {.id = "exfat",
          .name = "exFAT file system",
          .family = "file system",
          .specification = "exFAT file system specification 1.00",
          .reads =
              "chained and contiguous files, ends never written, checksums of boot region and entries, "
              "backup boot region",
          .lacks = "the second allocation table of the transaction-safe variant",
          .suffixes = {".exfat"},
          .recognise = recognise_exfat,
          .open = open_exfat,
          .records = {record_at<BootRecord>("boot sector", 0)}};
}

}  // namespace operculum
