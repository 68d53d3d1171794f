// ISO 9660 (ECMA-119, 4th edition) with Joliet, Rock Ridge (IEEE P1281 and P1282), El Torito and zisofs.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/text.h"
#include "base/units.h"
#include "container/record_fields.h"
#include "container/trim.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/iso_boot.h"
#include "format/filesystem/iso_content.h"
#include "format/filesystem/iso_record_reader.h"
#include "format/filesystem/iso_records.h"
#include "format/filesystem/iso_rewrite.h"
#include "format/filesystem/iso_rows.h"
#include "format/filesystem/iso_volume.h"
#include "format/filesystem/udf.h"
#include "format/image/partition_table.h"
#include "io/cached_source.h"
#include "io/extent_source.h"

namespace operculum {
namespace {

using namespace iso;

constexpr std::string_view kRockRidge = "rock-ridge", kJoliet = "joliet", kPlain = "plain",
                           kFirstSession = "first-session", kUdf = "udf";
constexpr std::uint64_t kBootFolder = std::uint64_t{1} << 62,
                        kBootImage = std::uint64_t{1} << 63;  // in NodeRef::a
constexpr std::string_view kBootFolderName = "[boot]";

enum class Tree { plain, joliet, rock_ridge };

class IsoContainer final : public FileTree {
 public:
  IsoContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits),
        image_(std::move(image)),
        meta_(make_cached(image_)),
        encoding_(context.names_in) {
    Sessions found = find_sessions(*meta_, context.view == kFirstSession);
    volume_ = std::move(found.shown);
    sessions_ = found.count;
    reader_.emplace(meta_, volume_.block);
    bool ridge = has_rock_ridge();
    tree_ = ridge ? Tree::rock_ridge : volume_.has_joliet ? Tree::joliet : Tree::plain;
    choose(context.view, ridge);
    if (volume_.boot_catalog != 0) boot_images_ = read_boot_catalog(*meta_, volume_.boot_catalog * kSector);
    trimmed_ = is_trimmed();
    if (!trimmed_) compare_sizes(*this, image_->size(), volume_.blocks * volume_.block);
    trees_ = fmt::format("plain{}{}", volume_.has_joliet ? ", joliet" : "", ridge ? ", rock-ridge" : "");
  }

  /// Both trees of the disc, as they are to be.
  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (changes.empty()) return unchanged(image_);
    refuse_other_structures();
    TreeNode tree = changed_tree(*this, changes);
    bool ridge = tree_ == Tree::rock_ridge;
    OldDisc disc{image_, *reader_, boot_images_, load(tree_ == Tree::joliet, ridge), std::nullopt};
    if (volume_.has_joliet) disc.other = load(tree_ != Tree::joliet, false);
    return iso::rewrite(disc, entries(), tree, writing.spool);
  }

  std::optional<Trimmed> trimmed(Look look) override {
    refuse_other_structures();
    return without_end(image_, end_of_use(), kSector, look);
  }

  Facts facts() override {
    Facts out;
    if (!volume_.label.empty()) out.emplace_back("label", volume_.label);
    out.emplace_back("shown", std::string(tree_name()) + " tree");
    out.emplace_back("trees", trees_);
    out.emplace_back("used", size_fact(volume_.blocks * volume_.block));
    if (trimmed_) {
      out.emplace_back("trimmed", fmt::format("the full image has {} more bytes, of filling",
                                              grouped(volume_.blocks * volume_.block - image_->size())));
    }
    if (volume_.made.known()) out.emplace_back("made", to_text(volume_.made));
    if (!volume_.publisher.empty()) out.emplace_back("publisher", volume_.publisher);
    if (!volume_.application.empty()) out.emplace_back("made with", volume_.application);
    if (sessions_ > 1) out.emplace_back("sessions", std::to_string(sessions_));
    if (!boot_images_.empty())
      out.emplace_back("boot",
                       fmt::format("{}, in {}", counted(boot_images_.size(), "boot image", "boot images"),
                                   kBootFolderName));
    return out;
  }

 protected:
  NodeRef root() override {
    bool joliet = tree_ == Tree::joliet;
    return {(joliet ? volume_.joliet_root : volume_.root), joliet ? volume_.joliet_size : volume_.root_size};
  }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    if (folder.a == kBootFolder) return list_boot_images(sink);
    if (folder == root() && !boot_images_.empty()) {
      TreeItem item;
      item.entry.path = kBootFolderName;
      item.entry.kind = EntryKind::folder;
      item.ref = {kBootFolder};
      sink(std::move(item));
    }
    std::uint64_t begin = folder.a * volume_.block;
    try {
      check_folder(begin);
      records(begin, begin + folder.b, [&](const Record& record, std::uint64_t at, std::uint64_t size) {
        row(record, at, size, begin + folder.b, sink);
      });
    } catch (const Malformed& error) {
      list_by_path_table(folder.a, sink);
      throw Malformed(fmt::format("{}; folders below it were looked up in the path table", error.what()));
    }
  }

  ContentPtr open(const Entry& entry, NodeRef ref) override {
    if ((ref.a & kBootImage) != 0) return make_content(make_slice(image_, ref.a & ~kBootImage, entry.size));
    std::vector<Extent> extents;
    RockRidge ridge;
    bool first = true;
    std::uint64_t done = 0;
    for (std::uint64_t at = ref.a; at < ref.b;) {
      Record record = record_at(at, ref.b);
      if (record.unit != 0) throw Unsupported("interleaved files");
      if (first) ridge = record.ridge;
      first = false;
      if (record.size > 0) extents.push_back({done, record.extent * volume_.block, record.size});
      done += record.size;
      if (!record.goes_on()) break;
      at = next_record(at);
    }
    SourcePtr stored = make_extent_source(image_, std::move(extents), done);
    if (ridge.virtual_size) return make_content(sparse_file(stored, ridge));
    if (ridge.zisofs) return packed_file(stored, ridge);
    return make_content(stored);
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return tree_ != Tree::rock_ridge && to_lower(stored) == to_lower(wanted);
  }

 private:
  // ---- writing

  /// What else leads to the same data would lead to other data then.
  void refuse_other_structures() const {
    if (sessions_ > 1) throw Unsupported("writing a disc of several sessions");
    if (asked_for_) throw Unsupported("writing a disc through a tree that was asked for with --view");
    if (volume_.block != kSector)
      throw Unsupported("writing a disc with blocks that are not 2,048 bytes long");
    for (std::uint64_t sector = 16; sector < 64; ++sector) {
      Bytes head = read_up_to(*meta_, sector * kSector, 6);
      if (starts_with(head, std::string_view("\0NSR0", 5)))
        throw Unsupported("writing a disc that has a UDF tree, too");
    }
    Bytes volume = read_up_to(*meta_, 1024, 2), map = read_up_to(*meta_, 512, 2);
    if (starts_with(volume, "BD") || starts_with(volume, "H+") || starts_with(map, "PM"))
      throw Unsupported("writing a disc that has an HFS tree, too");
  }

  /// Where the last byte lies that anything of the disc needs, as far as its records tell. Throws where one
  /// of its trees is damaged.
  std::uint64_t end_of_use() const {
    std::uint64_t end = volume_.boot_catalog != 0 ? (volume_.boot_catalog + 1) * kSector : 0;
    for (const BootImage& image : boot_images_) end = std::max(end, image.at + image.size);
    end = std::max(end, end_of_partitions());
    auto look_at = [&](DiscTree tree) {
      each_folder(tree.root, [&](DiscFolder& folder) {
        end = std::max(end, folder.extent * volume_.block + folder.size);
        for (auto& row : folder.rows) {
          if (row->folder) continue;
          for (auto [extent, size] : parts_of(*row)) end = std::max(end, extent * volume_.block + size);
        }
      });
    };
    bool ridge = tree_ == Tree::rock_ridge;
    look_at(load(tree_ == Tree::joliet, ridge));
    if (volume_.has_joliet) look_at(load(tree_ != Tree::joliet, false));
    return end;
  }

  /// Of a disc that is a disk, too: partitions behind the volume's own, such as one that firmware starts
  /// from.
  std::uint64_t end_of_partitions() const {
    constexpr std::uint64_t kDiskSector = 512, kOwnBegins = 64;  // the volume's own begins up to here
    std::uint64_t end = 0;
    auto rows = read_mbr(read_up_to(*meta_, 0, kDiskSector));
    for (const MbrRow& row : rows.value_or(std::vector<MbrRow>()))
      if (row.start > kOwnBegins) end = std::max(end, (std::uint64_t{row.start} + row.count) * kDiskSector);
    return end;
  }

  /// Whether the image is shorter than its volume, and yet nothing of it is missing.
  bool is_trimmed() const {
    if (image_->size() >= volume_.blocks * volume_.block) return false;
    try {
      return end_of_use() <= image_->size();
    } catch (const Error&) {
      return false;
    }
  }

  DiscTree load(bool joliet, bool ridge) const {
    DiscTree tree;
    tree.form = joliet ? NameForm::joliet : NameForm::plain;
    tree.ridge = ridge;
    tree.descriptor_at = joliet ? volume_.joliet_at : volume_.primary_at;
    Tree kind = joliet ? Tree::joliet : ridge ? Tree::rock_ridge : Tree::plain;
    TreeLoader(*meta_, *reader_, ridge, [this, kind](const Record& record) { return name_of(record, kind); })
        .load(tree.root, joliet ? volume_.joliet_root : volume_.root,
              joliet ? volume_.joliet_size : volume_.root_size);
    return tree;
  }

  // ---- which tree

  bool has_rock_ridge() {
    Bytes own = read_up_to(*meta_, volume_.root * volume_.block, 255);
    if (!reader_->find_protocol(own)) return false;
    bool any = false;
    try {
      records(
          volume_.root * volume_.block, volume_.root * volume_.block + std::min(volume_.root_size, kSector),
          [&](const Record& record, std::uint64_t, std::uint64_t) { any |= record.ridge.any; }, true);
      any |= reader_->read(own, true).ridge.any;
    } catch (const Malformed&) {
      return any;
    }
    return any;
  }

  void choose(const std::string& view, bool ridge) {
    asked_for_ = !view.empty();
    if (view == kPlain) tree_ = Tree::plain;
    if (view == kRockRidge && !ridge) throw Malformed("it has no Rock Ridge tree");
    if (view == kRockRidge) tree_ = Tree::rock_ridge;
    if (view == kJoliet && !volume_.has_joliet) throw Malformed("it has no Joliet tree");
    if (view == kJoliet) tree_ = Tree::joliet;
  }

  std::string_view tree_name() const {
    return tree_ == Tree::rock_ridge ? kRockRidge : tree_ == Tree::joliet ? kJoliet : kPlain;
  }

  // ---- folders

  void check_folder(std::uint64_t begin) const {
    Bytes own = read_up_to(*meta_, begin, 34);
    if (own.size() < 34)
      throw CutShort(fmt::format("ISO 9660 folder at offset {}: the image ends before it", begin));
    if (own[0] < 34 || own[32] != 1 || own[33] != 0)
      throw Malformed(fmt::format("ISO 9660 folder at offset {}: its first record is not its own", begin));
  }

  Record record_at(std::uint64_t at, std::uint64_t end) const {
    Bytes raw = read_up_to(*meta_, at, std::min<std::uint64_t>(255, end - at));
    return reader_->read(raw, tree_ == Tree::rock_ridge);
  }
  std::uint64_t next_record(std::uint64_t at) const {
    return at + std::max<Byte>(read_up_to(*meta_, at, 1).at(0), 1);
  }

  using TakeRecord = std::function<void(const Record&, std::uint64_t at, std::uint64_t size)>;
  /// Goes through the records of a folder; those of one file with several extents count as one. A damaged
  /// record costs the rest of its sector.
  void records(std::uint64_t begin, std::uint64_t end, const TakeRecord& take,
               bool with_ridge = false) const {
    std::string wrong;
    std::optional<Record> first;
    std::uint64_t first_at = 0, size = 0;
    for (std::uint64_t sector = begin; sector < end; sector += kSector) {
      Bytes raw = read_up_to(*meta_, sector, std::min(kSector, end - sector));
      if (raw.size() < std::min(kSector, end - sector))
        throw CutShort(fmt::format("ISO 9660 folder at offset {}: the image is cut short", begin));
      for (std::size_t at = 0; at < raw.size() && raw[at] != 0; at += raw[at]) {
        try {
          Record record = reader_->read(ByteView(raw).subspan(at), with_ridge || tree_ == Tree::rock_ridge);
          bool more = record.goes_on();
          size += record.size;
          if (!first) {
            first = std::move(record);
            first_at = sector + at;
          }
          if (more) continue;
          if (!first->is_self_or_parent()) take(*first, first_at, size);
          first.reset();
          size = 0;
        } catch (const Malformed& error) {
          wrong = error.what();
          break;
        }
      }
    }
    if (!wrong.empty()) throw Malformed(wrong);
  }

  void row(const Record& record, std::uint64_t at, std::uint64_t size, std::uint64_t folder_end,
           const TreeSink& sink) {
    const RockRidge& ridge = record.ridge;
    if (ridge.relocated) return;
    constexpr std::uint8_t kAssociated = 4;
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = name_of(record);
    if ((record.flags & kAssociated) != 0) entry.path += ".associated";
    entry.modified = record.modified;
    bool folder = record.is_folder();
    if (tree_ == Tree::rock_ridge && ridge.mode) {
      entry.mode = *ridge.mode & 07777;
      entry.kind = kind_of_mode(*ridge.mode);
      EntryExtra& extra = entry.extras();
      extra.user_id = ridge.uid;
      extra.group_id = ridge.gid;
      extra.link_target = ridge.target;
      extra.device_major = ridge.device_major;
      extra.device_minor = ridge.device_minor;
      extra.created = ridge.created;
      extra.accessed = ridge.accessed;
      extra.changed = ridge.changed;
      if (ridge.modified.known()) entry.modified = ridge.modified;
    }
    if (ridge.child) {  // a folder that was moved up to stay within eight levels
      entry.kind = EntryKind::folder;
      Bytes own = read_exactly(*meta_, *ridge.child * volume_.block, size_on_disk<FolderRecord>,
                               "ISO 9660 folder record");
      item.ref = {*ridge.child, read_structure<FolderRecord>(own.data()).data_length};
      return sink(std::move(item));
    }
    if (folder) {
      entry.kind = EntryKind::folder;
      item.ref = {record.extent, record.size};
      return sink(std::move(item));
    }
    if (entry.kind == EntryKind::folder) entry.kind = EntryKind::file;
    item.ref = {at, folder_end};
    entry.stored_at = record.extent * volume_.block;
    if (entry.kind == EntryKind::file) {
      entry.size = ridge.virtual_size ? *ridge.virtual_size : ridge.zisofs ? ridge.unpacked_size : size;
      entry.stored_size = size;
      if (ridge.zisofs) entry.method = "zlib";
      if (ridge.virtual_size) entry.flags |= Entry::sparse;
      if (ridge.links > 1 && size > 0 && tree_ == Tree::rock_ridge) item.link_id = record.extent + 1;
    }
    sink(std::move(item));
  }

  std::string name_of(const Record& record) const { return name_of(record, tree_); }

  std::string name_of(const Record& record, Tree tree) const {
    if (tree == Tree::rock_ridge && record.ridge.name) return *record.ridge.name;
    std::string name;
    if (tree == Tree::joliet) {
      name = to_utf8(as_text(record.raw_name), "UTF-16BE").value_or("_");
    } else {
      name = as_text(record.raw_name);
      if (!is_ascii(name)) name = to_utf8(name, encoding_.empty() ? "ISO-8859-1" : encoding_).value_or(name);
    }
    if (record.is_folder()) return name;
    std::size_t version = name.rfind(';');
    if (version != std::string::npos) name.resize(version);
    if (name.size() > 1 && name.ends_with('.')) name.pop_back();
    return name;
  }

  void list_boot_images(const TreeSink& sink) const {
    for (const BootImage& one : boot_images_) {
      TreeItem item;
      item.entry.path = one.name;
      item.entry.size = item.entry.stored_size = one.size;
      item.entry.stored_at = one.at;
      item.ref = {one.at | kBootImage};
      sink(std::move(item));
    }
  }

  /// Folders whose parent's folder is damaged: number, place and name of each are also in a table of their
  /// own.
  void list_by_path_table(std::uint64_t parent, const TreeSink& sink) const {
    bool joliet = tree_ == Tree::joliet;
    std::uint64_t size = joliet ? volume_.joliet_table_size : volume_.path_table_size;
    Bytes table = read_up_to(*meta_, (joliet ? volume_.joliet_table : volume_.path_table) * volume_.block,
                             std::min<std::uint64_t>(size, 16 << 20));
    constexpr std::size_t head_size = size_on_disk<PathRow>;
    std::vector<std::uint64_t> places;
    for (std::size_t at = 0; at + head_size <= table.size();) {
      auto row = read_structure<PathRow>(table.data() + at);
      std::size_t length = row.name_length;
      if (length == 0 || at + head_size + length > table.size()) return;
      std::uint64_t place = row.extent, number = row.above;
      places.push_back(place);
      if (places.size() > 1 && number >= 1 && number <= places.size() && places[number - 1] == parent) {
        Record record;
        record.raw_name.assign(table.begin() + static_cast<std::ptrdiff_t>(at + head_size),
                               table.begin() + static_cast<std::ptrdiff_t>(at + head_size + length));
        record.flags = 2;
        TreeItem item;
        item.entry.path = name_of(record);
        item.entry.kind = EntryKind::folder;
        item.entry.flags = Entry::recovered;
        Bytes own = read_up_to(*meta_, place * volume_.block, size_on_disk<FolderRecord>);
        if (own.size() == size_on_disk<FolderRecord>) {
          item.ref = {place, read_structure<FolderRecord>(own.data()).data_length};
          sink(std::move(item));
        }
      }
      at += 8 + length + length % 2;
    }
  }

  SourcePtr image_, meta_;
  std::string encoding_, trees_;
  Volume volume_;
  unsigned sessions_ = 1;
  bool trimmed_ = false;  // the filling at the end of the volume is not there
  std::optional<RecordReader> reader_;
  Tree tree_ = Tree::plain;
  bool asked_for_ = false;  // the tree, or the session
  std::vector<BootImage> boot_images_;
};

Match recognise_iso(Probe& probe) {
  Bytes raw = probe.at(kDescriptorsAt, 7);
  return raw.size() == 7 && as_text(raw).substr(1, 5) == kMark && raw[6] == 1 ? Match::front : Match::none;
}

ContainerPtr open_iso(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  if (context.view == kUdf) return open_udf(std::move(image), context);
  auto iso = std::make_shared<IsoContainer>(image, context);
  return iso;
}

}  // namespace

Format iso_format() {
  return {
      .id = "iso9660",
      .name = "ISO 9660 disc image",
      .family = "file system",
      .specification = "ECMA-119 4th edition; Joliet; IEEE P1281, P1282; El Torito 1.0",
      .reads =
          "levels 1 to 3, files of several extents; Joliet; Rock Ridge with continuation areas, "
          "relocated folders, "
          "links, devices and sparse files; boot images; zisofs; several sessions; folders by the path "
          "table when theirs is "
          "damaged; --view rock-ridge, joliet, plain, first-session, udf",
      .lacks = "interleaved files; zisofs of version 2",
      .writes =
          "files and folders where they lie, what grows behind the end, in all trees; discs from scratch, "
          "with Rock Ridge and Joliet",
      .suffixes = {".iso"},
      .views = {kRockRidge, kJoliet, kPlain, kFirstSession, kUdf},
      .own_order = true,
      .recognise = recognise_iso,
      .open = open_iso,
      .pack = pack_iso,
      .keeps = {.devices = true},
      .records = {record_at<VolumeDescriptor>("primary volume descriptor", 16 * kSector)}};
}

}  // namespace operculum
