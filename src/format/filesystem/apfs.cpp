#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "base/units.h"
#include "container/record_fields.h"
#include "format/filesystem/apfs_keys.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/hfs_packed.h"
#include "format/filesystem/inode_entry.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace apfs;

constexpr std::string_view kCurrent = "current", kSnapshots = "snapshots";
constexpr std::string_view kPacking = "com.apple.decmpfs", kResource = "com.apple.ResourceFork",
                           kLink = "com.apple.fs.symlink", kForkEnding = ":rsrc";
constexpr std::uint64_t kRootInode = 2, kSecond = 1'000'000'000;
constexpr std::uint64_t kLargestAttribute = 16 << 20;  // bytes

Timestamp time_of(std::uint64_t nanoseconds) {
  return from_unix(static_cast<std::int64_t>(nanoseconds / kSecond),
                   static_cast<std::uint32_t>(nanoseconds % kSecond));
}

/// What a volume is for (apfs_role).
std::string_view role_name(std::uint16_t role) {
  constexpr std::pair<std::uint16_t, std::string_view> kRoles[] = {
      {0x0001, "system"},     {0x0002, "user"},      {0x0004, "recovery"}, {0x0008, "virtual memory"},
      {0x0010, "preboot"},    {0x0020, "installer"}, {0x0040, "data"},     {0x0080, "baseband"},
      {0x00C0, "update"},     {0x0100, "xART"},      {0x0140, "hardware"}, {0x0180, "backup"},
      {0x0240, "enterprise"}, {0x02C0, "prelogin"}};
  auto found =
      std::find_if(std::begin(kRoles), std::end(kRoles), [&](const auto& one) { return one.first == role; });
  return found == std::end(kRoles) ? std::string_view() : found->second;
}

/// The attributes of a file that say how it is to be read, and the others.
struct Attributes {
  std::optional<hfs::Packing> packing;
  std::optional<Attribute> resource;
  std::string link;
  ExtendedAttributes others;
};

/// One volume's tree, or a folder for each volume; with the snapshots' view a folder for each of those.
///
/// In a NodeRef `a` is an inode's number, `b` says in which tree: 0 for the folder of all volumes, else the
/// volume's number, counted from 1, and above it the snapshot's transaction, 0 for the volume as it is. Inode
/// 0 stands for the folder of a volume's snapshots. The uppermost bit of `b` means a file's resource fork.
class ApfsContainer final : public FileTree {
 public:
  ApfsContainer(SourcePtr image, const std::string& name, OpenContext& context)
      : FileTree(context.limits),
        size_(image->size()),
        name_(name),
        keys_(context.keys),
        view_(context.view),
        container_(std::move(image),
                   [this](Finding::Level level, std::string text) { add_finding(level, std::move(text)); }) {
    const ContainerSuper& super = container_.super();
    compare_sizes(*this, size_, super.block_count * super.block_size);
    for (std::size_t i = 0; i < container_.count(); ++i)
      ignores_case_ |= (container_.volume(i).incompatible_features & VolumeSuper::case_insensitive) != 0;
  }

  Facts facts() override {
    const ContainerSuper& super = container_.super();
    Facts out;
    std::uint64_t used = 0;
    for (std::size_t i = 0; i < container_.count(); ++i) {
      const VolumeSuper& volume = container_.volume(i);
      used += std::min(volume.fs_alloc_count, super.block_count);
      if (container_.count() == 1) {
        if (!label_of(volume).empty()) out.emplace_back("label", escape(label_of(volume)));
        out.emplace_back("volume", about(volume));
      } else {
        out.emplace_back("volume", fmt::format("{}: {}", escape(folder_name(i)), about(volume)));
      }
    }
    out.emplace_back("uuid", uuid_text(super.uuid));
    out.emplace_back("capacity", size_fact(super.block_count * super.block_size));
    auto free = container_.free_blocks();
    if (free && *free <= super.block_count) {
      out.emplace_back("used", size_fact((super.block_count - *free) * super.block_size));
      out.emplace_back("free", size_fact(*free * super.block_size));
    } else {
      out.emplace_back("used", size_fact(used * super.block_size));
    }
    out.emplace_back("block", fmt::format("{} bytes", super.block_size));
    out.emplace_back("transaction", fmt::format("{}", container_.xid()));
    return out;
  }

 protected:
  NodeRef root() override {
    if (container_.count() != 1) return {};
    return view_ == kSnapshots ? NodeRef{0, 1} : NodeRef{kRootInode, 1};
  }

  void list(NodeRef folder, Detail detail, const TreeSink& sink) override {
    if (folder.b == 0) return list_volumes(sink);
    if (folder.a == 0) return list_snapshots(folder.b, sink);
    VolumePtr volume = volume_of(folder.b);
    volume->names(folder.a, [&](const Name& name) { row(*volume, name, folder.b, detail, sink); });
  }

  bool same_name(std::string_view stored, std::string_view wanted) const override {
    return ignores_case_ && to_lower(stored) == to_lower(wanted);
  }

  ContentPtr open(const Entry&, NodeRef ref) override {
    VolumePtr volume = volume_of(ref.b & ~kResourcePart);
    Inode inode = volume->inode(ref.a);
    bool resource = (ref.b & kResourcePart) != 0,
         packed = (inode.record.bsd_flags & InodeRecord::packed) != 0;
    auto plain = [&] { return make_content(volume->data(inode.record.private_id, inode.stream.size)); };
    if (!resource && !packed) return plain();
    Attributes attributes = attributes_of(*volume, ref.a);
    SourcePtr fork = attributes.resource ? volume->data(*attributes.resource) : nullptr;
    if (resource) return make_content(fork);
    if (attributes.packing) {
      if (attributes.packing->in_fork() && fork == nullptr)
        throw Malformed("it is packed into a resource fork that is missing");
      return hfs::open_packed(*attributes.packing, fork);
    }
    return plain();
  }

 private:
  static constexpr std::uint64_t kResourcePart = std::uint64_t{1} << 63;
  static constexpr unsigned kVolumeBits = 8;

  static std::string label_of(const VolumeSuper& volume) {
    return std::string(until_zero(as_text(volume.volname)));
  }
  std::string folder_name(std::size_t index) const {
    std::string label = label_of(container_.volume(index));
    if (label.empty()) label = fmt::format("volume {}", index + 1);
    for (std::size_t i = 0; i < index; ++i)
      if (label_of(container_.volume(i)) == label) return fmt::format("{} {}", label, index + 1);
    return label;
  }

  /// "42 files, 7 folders, role: data, ignores case, encrypted, 3 snapshots"
  static std::string about(const VolumeSuper& volume) {
    std::string out = fmt::format("{}, {}", counted(volume.num_files, "file", "files"),
                                  counted(volume.num_directories, "folder", "folders"));
    if (volume.num_snapshots > 0)
      out += fmt::format(", {} (--view snapshots shows them)",
                         counted(volume.num_snapshots, "snapshot", "snapshots"));
    if (auto role = role_name(volume.role); !role.empty()) out += fmt::format(", role: {}", role);
    if ((volume.incompatible_features & VolumeSuper::case_insensitive) != 0) out += ", ignores case";
    if ((volume.incompatible_features & VolumeSuper::sealed) != 0) out += ", sealed";
    if ((volume.fs_flags & VolumeSuper::unencrypted) == 0) out += ", encrypted";
    return out;
  }

  void list_volumes(const TreeSink& sink) {
    for (std::size_t i = 0; i < container_.count(); ++i) {
      TreeItem item;
      item.entry.path = folder_name(i);
      item.entry.kind = EntryKind::folder;
      item.entry.modified = time_of(container_.volume(i).last_mod_time);
      item.entry.extras().comment = about(container_.volume(i));
      item.ref = {view_ == kSnapshots ? 0 : kRootInode, i + 1};
      sink(std::move(item));
    }
  }

  void list_snapshots(std::uint64_t tree, const TreeSink& sink) {
    volume_of(tree)->snapshots([&](const Snapshot& one) {
      constexpr std::uint64_t kMostTransactions = std::uint64_t{1} << (62 - kVolumeBits);
      TreeItem item;
      item.entry.path = one.name.empty() ? fmt::format("snapshot {}", one.xid) : one.name;
      item.entry.kind = EntryKind::folder;
      item.entry.modified = time_of(one.made);
      if (one.xid == 0 || one.xid >= kMostTransactions)
        return add_damaged(std::move(item), fmt::format("transaction {} is not possible", one.xid), sink);
      item.ref = {kRootInode, tree | one.xid << kVolumeBits};
      {
        std::lock_guard lock(mutex_);
        snapshots_.emplace(item.ref.b, one);
      }
      sink(std::move(item));
    });
  }

  VolumePtr volume_of(std::uint64_t tree) {
    std::lock_guard lock(mutex_);
    VolumePtr& known = volumes_[tree];
    if (known) return known;
    std::size_t index = (tree & ((1 << kVolumeBits) - 1)) - 1;
    auto snapshot = snapshots_.find(tree);
    const VolumeSuper& super = container_.volume(index);
    Unlock unlock_it;
    if ((super.fs_flags & VolumeSuper::unencrypted) == 0) unlock_it = [this, index] { return key_of(index); };
    return known =
               container_.open(index, snapshot == snapshots_.end() ? nullptr : &snapshot->second, unlock_it);
  }

  /// A volume and its snapshots have one key: it is asked for once.
  std::shared_ptr<const DiskCipher> key_of(std::size_t index) {
    std::lock_guard lock(key_mutex_);
    auto& known = ciphers_[index];
    if (!known)
      known = unlock(container_, container_.volume(index), keys_,
                     container_.count() == 1 ? name_ : fmt::format("{} ({})", name_, folder_name(index)));
    return known;
  }

  static Attributes attributes_of(const Volume& volume, std::uint64_t id) {
    Attributes out;
    volume.attributes(id, [&](Attribute&& one) {
      if (one.name == kResource) {
        out.resource = std::move(one);
        return;
      }
      Bytes value = one.stream_id ? read_up_to(*volume.data(one), 0, std::min(one.size, kLargestAttribute))
                                  : std::move(one.value);
      if (one.name == kPacking)
        out.packing = hfs::read_packing(value);
      else if (one.name == kLink)
        out.link = until_zero(as_text(value));
      else
        out.others.emplace_back(std::move(one.name), as_text(value));
    });
    return out;
  }

  void row(const Volume& volume, const Name& name, std::uint64_t tree, Detail detail, const TreeSink& sink) {
    TreeItem item;
    item.entry.path = std::string(name.text);
    // a slash in a name is shown as a colon by the system, too
    std::replace(item.entry.path.begin(), item.entry.path.end(), '/', ':');
    constexpr unsigned kModeShift = 12;
    item.entry.kind = kind_of_mode(name.type << kModeShift);
    item.ref = {name.file_id, tree};
    std::string path = item.entry.path;
    if (item.entry.kind != EntryKind::file) {
      if (detail == Detail::paths) return sink(std::move(item));
      return add_filled(std::move(item), sink, [&](TreeItem& one) { fill(volume, one); });
    }
    bool fork_alone = !sink.wants_all_of(path) && sink.wants_all_of(path + std::string(kForkEnding));
    std::optional<Attribute> fork;
    if (fork_alone) fork = fill(volume, item);
    add_filled(std::move(item), sink, [&](TreeItem& one) { fork = fill(volume, one); });
    if (!fork) return;
    TreeItem resource;
    resource.entry.path = path + std::string(kForkEnding);
    resource.entry.size = resource.entry.stored_size = fork->size;
    resource.ref = {name.file_id, tree | kResourcePart};
    sink(std::move(resource));
  }

  /// Returns the resource fork of a file that has one of its own.
  static std::optional<Attribute> fill(const Volume& volume, TreeItem& item) {
    Inode inode = volume.inode(item.ref.a);
    const InodeRecord& record = inode.record;
    Entry& entry = item.entry;
    Attributes attributes = attributes_of(volume, item.ref.a);
    EntryExtra& extra = take_inode(entry, InodeFacts{.mode = record.mode,
                                                     .uid = record.owner,
                                                     .gid = record.group,
                                                     .modified = time_of(record.mod_time),
                                                     .accessed = time_of(record.access_time),
                                                     .changed = time_of(record.change_time),
                                                     .created = time_of(record.create_time)});
    extra.attributes = std::move(attributes.others);
    switch (entry.kind) {
      case EntryKind::file: {
        if (record.nlink > 1) item.link_id = item.ref.a ^ (item.ref.b << 40);
        bool packed = (record.bsd_flags & InodeRecord::packed) != 0 && attributes.packing;
        if (!packed) {
          std::uint64_t stored = inode.stream.alloced_size;
          take_size(entry, inode.stream.size, stored - std::min(inode.holes, stored), 1);
          return std::move(attributes.resource);
        }
        entry.size = attributes.packing->size;
        entry.stored_size = attributes.packing->in_fork() && attributes.resource
                                ? attributes.resource->size
                                : attributes.packing->kept.size();
        entry.method = attributes.packing->method();
        return std::nullopt;
      }
      case EntryKind::symbolic_link:
        extra.link_target = attributes.link;
        break;
      case EntryKind::character_device:
      case EntryKind::block_device:
        extra.device_major = inode.device >> 24;
        extra.device_minor = inode.device & 0xFFFFFF;
        break;
      default:
        break;
    }
    return std::nullopt;
  }

  std::uint64_t size_;
  std::string name_;
  KeyRing keys_;
  std::string view_;
  apfs::Container container_;
  bool ignores_case_ = false;
  std::mutex mutex_;  // guards what follows
  std::map<std::uint64_t, VolumePtr> volumes_;
  std::map<std::uint64_t, Snapshot> snapshots_;
  std::mutex key_mutex_;  // guards what follows
  std::map<std::size_t, std::shared_ptr<const DiskCipher>> ciphers_;
};

Match recognise_apfs(Probe& probe) {
  constexpr std::size_t kMarkAt = 32;
  Bytes raw = probe.at(0, ContainerSuper::size);
  if (raw.size() < ContainerSuper::size || as_text(raw).substr(kMarkAt, 4) != "NXSB") return Match::none;
  return match_superblock(probe, "APFS", [&] { read_super(raw); });
}

ContainerPtr open_apfs(const Input& input, OpenContext& context) {
  return std::make_shared<ApfsContainer>(random_access(*input.content, context.spool), input.name, context);
}

}  // namespace

Format apfs_format() {
  return {
      .id = "apfs",
      .name = "APFS container",
      .family = "file system",
      .specification = "Apple File System Reference (2020-06-22)",
      .reads =
          "the newest checkpoint; several volumes as folders; snapshots; sealed volumes; names that keep or "
          "ignore case; hard links, holes, clones; resource forks as NAME:rsrc; extended attributes; files "
          "packed with zlib, LZVN and LZFSE; volumes encrypted with a passphrase or a recovery key; "
          "checksums "
          "of all metadata",
      .lacks =
          "Fusion drives, volumes with a key for each file or a key in the machine, a scattered checkpoint "
          "area, hashes of sealed volumes",
      .suffixes = {".apfs"},
      .views = {kCurrent, kSnapshots},
      .recognise = recognise_apfs,
      .open = open_apfs,
      .records = {record_at<ContainerSuper>("container superblock", 0)}};
}

}  // namespace operculum
