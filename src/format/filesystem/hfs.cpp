// HFS+ and HFSX, after Apple's Technical Note TN1150.
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/hfs_packed.h"
#include "format/filesystem/hfs_volume.h"

namespace operculum {
namespace {

using namespace hfs;

constexpr std::uint32_t kRootParent = 1, kRootFolder = 2;
constexpr std::uint32_t kHardLinkType = 0x686C6E6B, kHardLinkCreator = 0x6866732B;      // "hlnk", "hfs+"
constexpr std::uint32_t kFolderLinkType = 0x66647270, kFolderLinkCreator = 0x4D414353;  // "fdrp", "MACS"
constexpr std::string_view kPrivateFiles = "HFS+ Private Data",
                           kPrivateFolders = ".HFS+ Private Directory Data\r";
constexpr std::string_view kPacking = "com.apple.decmpfs", kResource = "com.apple.ResourceFork";
constexpr std::uint8_t kPackedFlag = 0x20;
constexpr std::uint64_t kLongestTarget = 65536;

/// In NodeRef::b, above the place of a file's record: its resource fork is meant.
constexpr std::uint64_t kResourcePart = std::uint64_t{1} << 63;

/// What the catalog says of a folder or file.
struct Item {
  bool folder = false;
  std::uint64_t place = 0;  // of its record
  std::uint32_t id = 0, owner = 0, group = 0, special = 0, type = 0, creator = 0;
  std::uint16_t mode = 0;
  std::uint8_t flags = 0;
  Timestamp created, modified, changed, accessed;
  Fork data, resource;
};

Item read_item(const LeafRecord& record) {
  const BigFields& f = record.data;
  Item item;
  item.place = record.place;
  auto stored = structure_at<CatalogRecord>(f, 0);
  item.folder = stored.kind == folder_record;
  item.id = stored.id;
  item.created = time_of(stored.created);
  item.modified = time_of(stored.modified);
  item.changed = time_of(stored.changed);
  item.accessed = time_of(stored.accessed);
  item.owner = stored.owner;
  item.group = stored.group;
  item.flags = stored.owner_flags;
  item.mode = stored.mode;
  item.special = stored.special;
  if (item.folder) return item;
  auto info = structure_at<FileInfo>(f, 0);
  item.type = info.type;
  item.creator = info.creator;
  item.data = read_fork(f, data_fork_at);
  item.resource = read_fork(f, resource_fork_at);
  return item;
}

/// A name in UTF-16 that follows a key.
std::string name_behind(const BigFields& key, std::size_t at, std::size_t units) {
  return to_utf8(key.text(at, units * 2), "UTF-16BE").value_or("_");
}

std::string name_in(const BigFields& key) {
  return name_behind(key, size_on_disk<CatalogKey>, structure_at<CatalogKey>(key, 0).name_length);
}

std::uint32_t parent_in(const BigFields& key) {
  return structure_at<CatalogKey>(key, 0).parent;
}

class HfsContainer final : public FileTree {
 public:
  HfsContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), volume_(std::move(image), [this](Finding::Level level, std::string text) {
          add_finding(level, std::move(text));
        }) {
    const Header& header = volume_.header();
    compare_sizes(*this, volume_.image()->size(), std::uint64_t{header.blocks} * header.block);
    if (!header.clean)
      add_finding(Finding::Level::warning,
                  header.journaled
                      ? "it was not unmounted: its journal may hold changes that are not applied here"
                      : "it was not unmounted: the newest files may be missing");
  }

  Facts facts() override {
    const Header& header = volume_.header();
    Facts out;
    try {
      volume_.catalog().from([](const BigFields& key) { return parent_in(key) < kRootParent; },
                             [&](const LeafRecord& record) {
                               if (parent_in(record.key) == kRootParent)
                                 out.emplace_back("label", name_in(record.key));
                               return false;
                             });
    } catch (const Malformed&) {
    }
    out.emplace_back("version", header.extended ? "HFSX" : "HFS+");
    out.emplace_back("capacity", size_fact(std::uint64_t{header.blocks} * header.block));
    out.emplace_back(
        "used",
        size_fact(std::uint64_t{header.blocks - std::min(header.free_blocks, header.blocks)} * header.block));
    out.emplace_back("free", size_fact(std::uint64_t{header.free_blocks} * header.block));
    out.emplace_back("block", fmt::format("{} bytes", header.block));
    if (header.made.known()) out.emplace_back("made", to_text(header.made));
    return out;
  }

 protected:
  NodeRef root() override { return {kRootFolder}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    children(static_cast<std::uint32_t>(folder.a), [&](std::string name, const Item& item) {
      if (folder.a == kRootFolder && is_private(name)) return;
      row(std::move(name), item, sink);
    });
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return !volume_.header().extended && to_lower(stored) == to_lower(wanted);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    Item item;
    volume_.catalog().at(ref.b & ~kResourcePart, [&](const LeafRecord& record) { item = read_item(record); });
    if ((ref.b & kResourcePart) != 0)
      return make_content(volume_.fork(item.resource, item.id, Volume::ForkKind::resource));
    if ((item.flags & kPackedFlag) != 0) {
      for (const auto& [name, value] : attributes_of(item.id)) {
        if (name != kPacking) continue;
        Packing packing = read_packing(as_bytes(value));
        return open_packed(packing, packing.in_fork()
                                        ? volume_.fork(item.resource, item.id, Volume::ForkKind::resource)
                                        : nullptr);
      }
    }
    return make_content(volume_.fork(item.data, item.id, Volume::ForkKind::data));
  }

 private:
  /// Where hard links' files are kept: the name begins with four zero characters.
  static bool is_private(std::string_view name) {
    std::string_view rest = name.substr(std::min(name.find_first_not_of('\0'), name.size()));
    return rest == kPrivateFiles || rest == kPrivateFolders;
  }

  void children(std::uint32_t parent, const std::function<void(std::string, const Item&)>& take) const {
    volume_.catalog().from([&](const BigFields& key) { return parent_in(key) < parent; },
                           [&](const LeafRecord& record) {
                             if (parent_in(record.key) != parent) return false;
                             std::uint16_t kind = structure_at<RecordKind>(record.data, 0).kind;
                             if (kind == folder_record || kind == file_record)
                               take(name_in(record.key), read_item(record));
                             return true;
                           });
  }

  /// The file or folder that a hard link stands for.
  std::optional<Item> linked(const Item& link, bool folder) {
    std::call_once(private_read_, [this] {
      children(kRootFolder, [&](const std::string& name, const Item& item) {
        if (!item.folder || !is_private(name)) return;
        children(item.id, [&](const std::string& inner, const Item& one) { private_.emplace(inner, one); });
      });
    });
    auto found = private_.find(fmt::format("{}{}", folder ? "dir_" : "iNode", link.special));
    return found == private_.end() ? std::nullopt : std::optional<Item>(found->second);
  }

  void row(std::string name, const Item& stored, const TreeSink& sink) {
    std::replace(name.begin(), name.end(), '/',
                 ':');  // a slash in a name is shown as a colon by the system, too
    TreeItem out;
    Item item = stored;
    bool file_link = stored.type == kHardLinkType && stored.creator == kHardLinkCreator;
    bool folder_link = stored.type == kFolderLinkType && stored.creator == kFolderLinkCreator;
    out.entry.path = name;
    if (file_link || folder_link) {
      auto target = linked(stored, folder_link);
      if (!target)
        return add_damaged(std::move(out), "the file that this hard link stands for is missing", sink);
      item = *target;
    }
    out.ref = {item.id, item.folder ? 0 : item.place};
    if (file_link) out.link_id = item.id;
    std::string wrong;
    try {
      fill(out.entry, item);
    } catch (const Malformed& error) {
      wrong = error.what();
    }
    if (!wrong.empty()) return add_damaged(std::move(out), wrong, sink);
    bool packed = item.folder || (item.flags & kPackedFlag) != 0;
    Timestamp modified = out.entry.modified;
    sink(std::move(out));
    if (packed || item.resource.size == 0) return;
    TreeItem resource;
    resource.entry.path = name + ":rsrc";
    resource.entry.modified = modified;
    resource.entry.size = resource.entry.stored_size = item.resource.size;
    resource.ref = {item.id, item.place | kResourcePart};
    sink(std::move(resource));
  }

  void fill(Entry& entry, const Item& item) {
    entry.kind = item.folder ? EntryKind::folder : EntryKind::file;
    entry.modified = item.modified;
    EntryExtra& extra = entry.extras();
    extra.user_id = item.owner;
    extra.group_id = item.group;
    extra.created = item.created;
    extra.changed = item.changed;
    extra.accessed = item.accessed;
    if (item.mode != 0) {
      entry.mode = item.mode & 07777;
      entry.kind = item.folder ? EntryKind::folder : kind_of_mode(item.mode);
    }
    std::optional<Packing> packing;
    for (auto& [name, value] : attributes_of(item.id)) {
      if (name == kPacking) {
        packing = read_packing(as_bytes(value));
      } else if (name != kResource) {
        extra.attributes.emplace_back(std::move(name), std::move(value));
      }
    }
    if (entry.kind == EntryKind::symbolic_link) {
      extra.link_target =
          as_text(read_up_to(*volume_.fork(item.data, item.id, Volume::ForkKind::data), 0, kLongestTarget));
    } else if (entry.kind == EntryKind::character_device || entry.kind == EntryKind::block_device) {
      extra.device_major = item.special >> 24;
      extra.device_minor = item.special & 0xFFFFFF;
    } else if (entry.kind == EntryKind::file) {
      bool packed = packing && (item.flags & kPackedFlag) != 0;
      entry.size = packed ? packing->size : item.data.size;
      entry.stored_size =
          packed ? packing->kept.size() + (packing->in_fork() ? item.resource.size : 0) : item.data.size;
      if (packed) entry.method = packing->method();
    }
  }

  ExtendedAttributes attributes_of(std::uint32_t id) const {
    ExtendedAttributes out;
    if (volume_.attributes() == nullptr) return out;
    constexpr std::uint64_t kLargestAttribute = 16 << 20;
    volume_.attributes()->from(
        [&](const BigFields& key) { return structure_at<AttributeKey>(key, 0).file < id; },
        [&](const LeafRecord& record) {
          auto key = structure_at<AttributeKey>(record.key, 0);
          if (key.file != id) return false;
          std::string name = name_behind(record.key, size_on_disk<AttributeKey>, key.name_length);
          std::uint32_t kind = structure_at<AttributeKind>(record.data, 0).kind;
          if (kind == inline_attribute) {
            std::uint32_t size = structure_at<InlineAttribute>(record.data, 0).size;
            out.emplace_back(std::move(name), record.data.text(size_on_disk<InlineAttribute>, size));
          } else if (kind == fork_attribute && name != kResource) {
            Fork fork = read_fork(record.data, attribute_fork_at);
            Bytes value = read_up_to(*volume_.fork(fork, id, Volume::ForkKind::data), 0,
                                     std::min(fork.size, kLargestAttribute));
            out.emplace_back(std::move(name), as_text(value));
          }
          return true;
        });
    return out;
  }

  Volume volume_;
  std::once_flag private_read_;
  std::map<std::string, Item> private_;
};

Match recognise_hfs(Probe& probe) {
  Bytes raw = probe.at(header_at, header_size);
  if (raw.size() < header_size) return Match::none;
  if (read_structure<MasterBlock>(raw.data()).wraps()) return Match::front;
  try {
    std::uint16_t version = read_header(raw).version;
    return version == 4 || version == 5 ? Match::front : Match::none;
  } catch (const Malformed&) {
    return Match::none;
  }
}

ContainerPtr open_hfs(const Input& input, OpenContext& context) {
  return std::make_shared<HfsContainer>(random_access(*input.content, context.spool), context);
}

}  // namespace

Format hfs_format() {
  return {.id = "hfsplus",
          .name = "HFS+ file system",
          .family = "file system",
          .specification = "Apple Technical Note TN1150",
          .reads =
              "HFS+ and HFSX, also within an HFS wrapper; extents overflow; hard links of files and folders; "
              "resource forks as "
              "NAME:rsrc; extended attributes; files packed with zlib, LZVN and LZFSE; backup volume header",
          .lacks = "replaying the journal",
          .suffixes = {".hfs", ".hfsx"},
          .recognise = recognise_hfs,
          .open = open_hfs,
          .records = {record_at<VolumeHeader>("volume header", 1024)}};
}

}  // namespace operculum
