// NTFS, versions 1.2 to 3.1, as commonly documented; LZNT1 after [MS-XCA], reparse points after [MS-FSCC].
#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/structure_fields.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/ntfs_overlay.h"
#include "format/filesystem/ntfs_volume.h"
#include "format/filesystem/reparse.h"

namespace operculum {
namespace {

using namespace ntfs;

constexpr std::uint64_t kVolumeFile = 3, kRootFile = 5, kBitmapFile = 6, kFirstUserFile = 16;
constexpr std::string_view kWithSystem = "with-system", kIndexName = "$I30";
constexpr std::uint64_t kLongestFolder = std::uint64_t{1} << 30;
constexpr std::string_view kUnixLinkMark = "IntxLNK\x01";

std::string utf8(std::string_view units) {
  return to_utf8(units, "UTF-16LE").value_or("_");
}

class NtfsContainer final : public FileTree {
 public:
  NtfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits),
        volume_(std::move(image),
                [this](Finding::Level level, std::string text) { add_finding(level, std::move(text)); }),
        with_system_(context.view == kWithSystem) {
    const Boot& boot = volume_.boot();
    std::uint64_t size = volume_.image()->size(),
                  covered = boot.size + boot.sector;  // the backup boot sector follows
    if (size < boot.size || size > covered) compare_sizes(*this, size, covered);
    try {
      Record volume = volume_.record(kVolumeFile);
      if (const Attribute* name = volume.find(volume_name_attribute)) label_ = utf8(as_text(name->value));
      if (const Attribute* about = volume.find(volume_information_attribute);
          about != nullptr && about->value.size() >= 12) {
        version_ = fmt::format("{}.{}", about->value[8], about->value[9]);
        if ((about->value[10] & 1) != 0)
          add_finding(Finding::Level::warning, "it was not unmounted: the newest files may be missing");
      }
    } catch (const Malformed& error) {
      add_finding(Finding::Level::warning,
                  fmt::format("the volume's own record is damaged: {}", error.what()));
    }
  }

  Facts facts() override {
    const Boot& boot = volume_.boot();
    Facts out;
    if (!label_.empty()) out.emplace_back("label", label_);
    if (!version_.empty()) out.emplace_back("version", version_);
    out.emplace_back("serial", fmt::format("{:016X}", boot.serial));
    out.emplace_back("capacity", size_fact(boot.size));
    if (auto used = used_clusters()) {
      out.emplace_back("used", size_fact(*used * boot.cluster));
      out.emplace_back("free", size_fact(boot.size - std::min(*used * boot.cluster, boot.size)));
    }
    out.emplace_back("cluster", fmt::format("{} bytes", boot.cluster));
    return out;
  }

 protected:
  NodeRef root() override { return {kRootFile}; }

  /// All blocks of the index are gone through, not its tree: order does not matter, and nothing can form a
  /// loop.
  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    Record record = volume_.record(folder.a);
    const Attribute* root = record.find(index_root_attribute, kIndexName);
    if (root == nullptr || !root->resident)
      throw Malformed(fmt::format("NTFS file {} is no folder", record.number));
    LittleFields f(root->value, "NTFS index root");
    auto head = structure_at<IndexRoot>(f, 0);
    rows(f.from(index_root_size), sink);
    const Attribute* blocks = record.find(index_allocation_attribute, kIndexName);
    if (blocks == nullptr) return;
    const Attribute* bitmap = record.find(bitmap_attribute, kIndexName);
    Bytes used = bitmap != nullptr ? read_up_to(*volume_.data(*bitmap), 0, 1 << 20) : Bytes();
    SourcePtr data = volume_.data(*blocks);
    std::uint64_t size = head.block_size;
    if (size < 512 || size > 65536 || size % 512 != 0)
      throw Malformed(fmt::format("NTFS index root: blocks of {} bytes are not possible", size));
    std::string wrong;
    std::uint64_t end = std::min(blocks->size, kLongestFolder);
    for (std::uint64_t i = 0; (i + 1) * size <= end; ++i) {
      if (bitmap != nullptr && (i / 8 >= used.size() || (used[i / 8] >> (i % 8) & 1) == 0)) continue;
      try {
        Bytes raw = read_exactly(*data, i * size, size, "NTFS index block");
        fix_up(raw, "INDX");
        rows(LittleFields(raw, "NTFS index block").from(index_block_head_size), sink);
      } catch (const Malformed& error) {
        wrong = error.what();
      }
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

  /// ref.b counts the data streams of a file; the first has no name.
  ContentPtr open(const Entry&, NodeRef ref) override {
    Record record = volume_.record(ref.a);
    std::uint64_t index = 0;
    if (ref.b == 0) {
      if (const Attribute* data = record.find(data_attribute)) return data_of(record, *data);
      return make_content(make_memory_source({}));
    }
    for (const Attribute& one : record.attributes) {
      if (one.type == data_attribute && !one.name.empty() && ++index == ref.b) return volume_.content(one);
    }
    throw Malformed(fmt::format("NTFS file {} has no such stream", ref.a));
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return to_lower(stored) == to_lower(wanted);
  }

 private:
  ContentPtr data_of(const Record& record, const Attribute& data) const {
    if (auto overlay = overlay_of(record)) return overlay_content(volume_, record, *overlay);
    return volume_.content(data);
  }

  void rows(const LittleFields& index, const TreeSink& sink) {
    auto header = structure_at<IndexHeader>(index, 0);
    constexpr std::size_t head_size = size_on_disk<IndexEntry>, key_size = size_on_disk<FileName>;
    std::size_t end = std::min<std::size_t>(header.free_at, index.size());
    for (std::size_t at = header.first_entry; at + head_size <= end;) {
      auto entry = structure_at<IndexEntry>(index, at);
      if ((entry.flags & index_entry_end) != 0) return;
      if (entry.length < head_size || entry.length > end - at)
        throw Malformed("NTFS: an index entry has an impossible length");
      if (entry.key_length >= key_size) {
        auto name = structure_at<FileName>(index, at + head_size);
        std::size_t name_at = at + head_size + key_size, name_size = std::size_t{name.length} * 2;
        if (name.flags != short_name_only) row(entry.reference, utf8(index.text(name_at, name_size)), sink);
      }
      at += entry.length;
    }
  }

  void row(std::uint64_t reference, std::string name, const TreeSink& sink) {
    std::uint64_t number = number_of(reference);
    if (number == kRootFile) return;
    bool system = number < kFirstUserFile;
    if (system && !with_system_) return;
    TreeItem item;
    item.ref = {number};
    item.entry.path = std::move(name);
    std::string wrong;
    std::vector<TreeItem> streams;
    try {
      Record record = volume_.record(number);
      if (!record.in_use() || (record.sequence != sequence_of(reference) && number != 0))
        throw Malformed(
            fmt::format("the folder names file {} as it was once; it has been deleted since", number));
      fill(item, record);
      streams = streams_of(item, record);
    } catch (const Malformed& error) {
      wrong = error.what();
    }
    if (!wrong.empty()) return add_damaged(std::move(item), wrong, sink);
    sink(std::move(item));
    for (TreeItem& stream : streams) sink(std::move(stream));
  }

  void fill(TreeItem& item, const Record& record) const {
    Entry& entry = item.entry;
    entry.kind = record.is_folder() ? EntryKind::folder : EntryKind::file;
    if (const Attribute* about = record.find(standard_information_attribute);
        about != nullptr && about->value.size() >= size_on_disk<StandardInformation>) {
      auto standard = read_structure<StandardInformation>(about->value.data());
      entry.modified = from_filetime(standard.modified);
      EntryExtra& extra = entry.extras();
      extra.created = from_filetime(standard.created);
      extra.changed = from_filetime(standard.changed);
      extra.accessed = from_filetime(standard.accessed);
      if ((standard.attributes & file_read_only) != 0 && entry.kind == EntryKind::file) entry.mode = 0444;
    }
    if (const Attribute* reparse = record.find(reparse_point_attribute)) {
      if (auto target = target_of(*reparse)) {
        entry.kind = EntryKind::symbolic_link;
        entry.extras().link_target = *target;
        return;
      }
    }
    if (entry.kind != EntryKind::file) return;
    if (const Attribute* data = record.find(data_attribute)) {
      if (data->resident && starts_with(data->value, kUnixLinkMark)) {  // as POSIX subsystems store links
        entry.kind = EntryKind::symbolic_link;
        entry.extras().link_target = utf8(as_text(data->value).substr(kUnixLinkMark.size()));
        return;
      }
      set_sizes(entry, *data);
      if (auto overlay = overlay_of(record)) {
        entry.method = method_of(*overlay);
        entry.flags &= static_cast<std::uint8_t>(~Entry::sparse);  // what is there in their place is all hole
        if (const Attribute* packed = record.find(data_attribute, kOverlayStream))
          entry.stored_size = packed->size;
      }
    } else {
      entry.size = entry.stored_size = 0;
    }
    auto names = std::count_if(record.attributes.begin(), record.attributes.end(), [&](const Attribute& one) {
      return one.type == file_name_attribute && one.value.size() >= size_on_disk<FileName> &&
             read_structure<FileName>(one.value.data()).flags != short_name_only;
    });
    if (names > 1) item.link_id = record.number + 1;
  }

  static void set_sizes(Entry& entry, const Attribute& data) {
    entry.size = data.size;
    entry.stored_size = std::min(data.allocated, data.size);
    if ((data.flags & sparse_attribute_flag) != 0) entry.flags |= Entry::sparse;
    if ((data.flags & encrypted_attribute_flag) != 0) entry.flags |= Entry::encrypted;
    if ((data.flags & compressed_attribute_flag) != 0 && !data.resident) entry.method = "lznt1";
  }

  /// The one with the packed bytes of the file itself only shows among the system's.
  std::vector<TreeItem> streams_of(const TreeItem& item, const Record& record) const {
    std::vector<TreeItem> out;
    bool with_packed = with_system_ || !overlay_of(record);
    std::uint64_t index = 0;
    for (const Attribute& one : record.attributes) {
      if (one.type != data_attribute || one.name.empty()) continue;
      ++index;
      if (one.name == kOverlayStream && !with_packed) continue;
      TreeItem stream;
      stream.ref = {item.ref.a, index};
      stream.entry.path = item.entry.path + ":" + one.name;
      stream.entry.modified = item.entry.modified;
      set_sizes(stream.entry, one);
      out.push_back(std::move(stream));
    }
    return out;
  }

  /// Of a reparse point, which lies in clusters of its own where a long target leaves it no room.
  std::optional<std::string> target_of(const Attribute& reparse) const {
    constexpr std::uint64_t kLargestPoint = 16 << 10;
    if (reparse.size < 8 || reparse.size > kLargestPoint) return std::nullopt;
    Bytes value = read_up_to(*volume_.data(reparse), 0, reparse.size);
    if (value.size() < 8) return std::nullopt;
    return reparse_target(load_little<std::uint32_t>(value.data()), ByteView(value).subspan(8));
  }

  std::optional<std::uint64_t> used_clusters() const {
    try {
      Record record = volume_.record(kBitmapFile);
      const Attribute* data = record.find(data_attribute);
      if (data == nullptr) return std::nullopt;
      SourcePtr source = volume_.data(*data);
      std::uint64_t clusters = volume_.boot().size / volume_.boot().cluster, count = 0;
      std::uint64_t bytes = std::min(data->size, (clusters + 7) / 8);
      for (std::uint64_t at = 0; at < bytes; at += 1 << 16) {
        Bytes part = read_up_to(*source, at, std::min<std::uint64_t>(1 << 16, bytes - at));
        if (part.empty()) return std::nullopt;
        for (Byte b : part) count += static_cast<unsigned>(std::popcount(b));
      }
      return std::min(count, clusters);
    } catch (const Malformed&) {
      return std::nullopt;
    }
  }

  Volume volume_;
  bool with_system_;
  std::string label_, version_;
};

Match recognise_ntfs(Probe& probe) {
  ByteView head = probe.head(512);
  if (head.size() < 512) return Match::none;
  try {
    read_boot(head);
    return Match::front;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_ntfs(const Input& input, OpenContext& context) {
  return std::make_shared<NtfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format ntfs_format() {
  return {
      .id = "ntfs",
      .name = "NTFS file system",
      .family = "file system",
      .specification = "NTFS 3.1 as commonly documented; [MS-XCA] 2.5; [MS-FSCC] 2.1.2",
      .reads =
          "resident and other data, sparse and compressed files (LZNT1; XPRESS and LZX of the system's "
          "overlay), named streams as NAME:STREAM, "
          "hard links, attribute "
          "lists, symbolic links and mount points, mirror of the file table, backup boot sector; --view "
          "with-system",
      .lacks = "contents of encrypted files; files that the system's overlay takes from an archive elsewhere",
      .suffixes = {".ntfs"},
      .views = {kWithSystem},
      .recognise = recognise_ntfs,
      .open = open_ntfs,
      .records = {record_at<BootSector>("boot sector", 0)}};
}

}  // namespace operculum
