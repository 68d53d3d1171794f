#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "container/record_fields.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/inode_entry.h"
#include "format/filesystem/reiser_volume.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace reiser;

constexpr std::string_view kPrivate = ".reiserfs_priv";  ///< where the system keeps extended attributes

/// NodeRef: the two numbers of an Id.
class ReiserContainer final : public FileTree {
 public:
  ReiserContainer(SourcePtr image, OpenContext& context)
      : FileTree(context.limits), volume_(std::move(image)) {
    const Superblock& super = volume_.super();
    compare_sizes(*this, volume_.image()->size(), std::uint64_t{super.block_count} * super.blocksize);
    constexpr std::uint16_t kClean = 1;
    if (super.umount_state != kClean)
      add_finding(
          Finding::Level::warning,
          "it was not unmounted: its journal may hold changes that are not applied here; the newest files "
          "may be missing");
  }

  Facts facts() override {
    const Superblock& s = volume_.super();
    Facts out;
    std::uint64_t free = std::min(s.free_blocks, s.block_count);
    if (s.version == 2) {
      std::string_view label = until_zero(as_text(s.label));
      if (!label.empty()) out.emplace_back("label", escape(label));
      out.emplace_back("uuid", uuid_text(s.uuid));
    }
    out.emplace_back("version", s.version == 2 ? "3.6" : "3.5");
    out.emplace_back("capacity", size_fact(std::uint64_t{s.block_count} * s.blocksize));
    out.emplace_back("used", size_fact((s.block_count - free) * s.blocksize));
    out.emplace_back("free", size_fact(free * s.blocksize));
    out.emplace_back("block", fmt::format("{} bytes", s.blocksize));
    return out;
  }

 protected:
  NodeRef root() override { return {kRoot.folder, kRoot.object}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    bool top = folder == root();
    volume_.list_folder(id_of(folder), [&](FolderItem&& found) {
      if (top && found.name == kPrivate) return;
      TreeItem item;
      item.entry.path = std::move(found.name);
      item.ref = {found.id.folder, found.id.object};
      add_filled(std::move(item), sink, [&](TreeItem& one) { fill(one, volume_.stat(found.id)); });
    });
  }

  ContentPtr open(const Entry& entry, NodeRef ref) override {
    return make_content(volume_.data(id_of(ref), entry.size));
  }

 private:
  static Id id_of(NodeRef ref) {
    return {static_cast<std::uint32_t>(ref.a), static_cast<std::uint32_t>(ref.b)};
  }

  void fill(TreeItem& item, const Stat& stat) {
    Entry& entry = item.entry;
    EntryExtra& extra = take_inode(entry, stat);
    switch (entry.kind) {
      case EntryKind::file:
        take_size(entry, stat.size, stat.blocks, 512);
        if (stat.links > 1) item.link_id = item.ref.b;
        break;
      case EntryKind::symbolic_link:
        extra.link_target = link_target_in(*volume_.data(id_of(item.ref), stat.size));
        break;
      case EntryKind::character_device:
      case EntryKind::block_device:
        set_device(extra, stat.device);
        break;
      default:
        break;
    }
  }

  Volume volume_;
};

bool has_magic(Probe& probe, std::uint64_t at) {
  Bytes raw = probe.at(at, kSuperSize);
  return raw.size() == kSuperSize && starts_with(read_structure<Superblock>(raw.data()).magic, "ReIsEr");
}

Match recognise_reiser(Probe& probe) {
  for (std::uint64_t at : kSuperPlaces) {
    if (!has_magic(probe, at)) continue;
    Match match = match_superblock(probe, "ReiserFS", [&] { read_superblock(probe.at(at, kSuperSize), at); });
    if (match != Match::none) return match;
  }
  return Match::none;
}

ContainerPtr open_reiser(const Input& input, OpenContext& context) {
  return std::make_shared<ReiserContainer>(random_access(*input.content, context.spool), context);
}

PlacedFields shown_super(Probe& probe) {
  for (std::uint64_t at : kSuperPlaces)
    if (has_magic(probe, at)) return fields_at<Superblock>(probe, at);
  return {};
}

}  // namespace

Format reiser_format() {
  return {
      .id = "reiserfs",
      .name = "ReiserFS file system",
      .family = "file system",
      .specification = "F. Buchholz, The structure of the Reiser file system; Linux kernel, fs/reiserfs",
      .reads = "formats 3.5 and 3.6; direct and indirect items, tails, holes, hard links, all entry kinds",
      .lacks = "replaying the journal; extended attributes; ReiserFS 4",
      .suffixes = {".reiserfs"},
      .recognise = recognise_reiser,
      .open = open_reiser,
      .records = {{"superblock", shown_super}}};
}

}  // namespace operculum
