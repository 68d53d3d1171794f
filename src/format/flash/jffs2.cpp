// JFFS2, after the Linux kernel (include/uapi/linux/jffs2.h, fs/jffs2) and D. Woodhouse, "JFFS: The
// Journalling Flash File System" (2001): a log of nodes, each a name or a piece of a file, of which the
// newest version counts.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/file_tree.h"
#include "format/flash/formats.h"
#include "format/flash/jffs2_nodes.h"
#include "io/block_content.h"

namespace operculum {
namespace {

using namespace jffs2;

constexpr std::uint32_t kRoot = 1;
constexpr std::string_view kWithDeleted = "with-deleted";
constexpr std::uint8_t kFolderType = 4;

/// What a stretch of a file comes from: some bytes of a piece.
struct Fragment {
  std::uint64_t begin = 0, end = 0;
  const Piece* piece = nullptr;  ///< null: a hole
  bool damaged = false;
};

/// Later pieces lie over earlier ones; `size` is what the newest of them says.
std::vector<Fragment> lay(const std::vector<Fragment>& pieces, std::uint64_t size) {
  std::map<std::uint64_t, Fragment> laid;
  for (const Fragment& piece : pieces) {
    std::uint64_t begin = piece.begin, end = piece.end;
    if (begin == end) continue;
    auto at = laid.upper_bound(begin);
    if (at != laid.begin()) --at;
    while (at != laid.end() && at->second.begin < end) {
      Fragment old = at->second;
      if (old.end <= begin) {
        ++at;
        continue;
      }
      at = laid.erase(at);
      if (old.begin < begin) laid[old.begin] = {old.begin, begin, old.piece, old.damaged};
      if (old.end > end) laid[end] = {end, old.end, old.piece, old.damaged};
    }
    laid[begin] = piece;
  }
  std::vector<Fragment> out;
  std::uint64_t done = 0;
  for (auto& [key, one] : laid) {
    if (one.begin >= size) break;
    if (one.begin > done) out.push_back({done, one.begin, nullptr});
    out.push_back({one.begin, std::min(one.end, size), one.piece, one.damaged});
    done = out.back().end;
  }
  if (done < size) out.push_back({done, size, nullptr});
  return out;
}

class Jffs2Container final : public FileTree {
 public:
  Jffs2Container(SourcePtr image, std::endian order, OpenContext& context)
      : FileTree(context.limits),
        image_(std::move(image)),
        order_(order),
        with_deleted_(context.view == kWithDeleted),
        nodes_(find_nodes(*image_, order)) {
    if (nodes_.damaged > 0)
      add_finding(
          Finding::Level::warning,
          fmt::format(
              "{} nodes are damaged and were passed over, as the file system does itself; older versions "
              "of what was in them may be shown",
              grouped(nodes_.damaged)));
    if (nodes_.unknown_kinds) add_finding(Finding::Level::warning, "there are nodes of unknown kinds");
    for (const auto& [key, list] : nodes_.names) folders_[key.first].push_back(&list);
  }

  Facts facts() override {
    return {{"byte order", order_ == std::endian::little ? "little-endian" : "big-endian"},
            {"nodes", grouped(nodes_.count)}};
  }

 protected:
  NodeRef root() override { return {kRoot}; }

  void list(NodeRef folder, Detail, const TreeSink& sink) override {
    auto found = folders_.find(static_cast<std::uint32_t>(folder.a));
    if (found == folders_.end()) return;
    for (const std::vector<Name>* versions : found->second) {
      const Name& newest = versions->back();
      if (newest.inode != 0) row(newest, newest.name, sink);
      if (!with_deleted_) continue;
      for (const Name& one : *versions) {
        if (one.inode != 0 && one.inode != newest.inode && nodes_.pieces.contains(one.inode))
          row(one, fmt::format("{}.deleted-{}", one.name, one.version), sink);
      }
    }
  }

  ContentPtr open(const Entry& entry, NodeRef ref) override {
    auto found = nodes_.pieces.find(static_cast<std::uint32_t>(ref.a));
    if (found == nodes_.pieces.end()) throw Malformed(fmt::format("JFFS2: inode {} is missing", ref.a));
    // What does not fit its checksum was never written to its end: the file system takes what was there
    // before, and where nothing was there it has lost these bytes.
    std::vector<Fragment> damaged, sound;
    for (const Piece& one : found->second) {
      bool fit = fits(*image_, one);
      (fit ? sound : damaged).push_back({one.offset, std::uint64_t{one.offset} + one.unpacked, &one, !fit});
      if (!fit)
        add_finding(Finding::Level::fault,
                    fmt::format("{}: {} bytes from {} on do not fit their checksum (node version {}); what "
                                "was there before is shown",
                                escape(entry.path), one.unpacked, one.offset, one.version),
                    Finding::About::entries);
    }
    damaged.insert(damaged.end(), sound.begin(), sound.end());
    auto fragments = std::make_shared<std::vector<Fragment>>(lay(damaged, size_of(found->second)));
    std::vector<Block> blocks;
    for (std::size_t i = 0; i < fragments->size(); ++i) {
      const Fragment& one = (*fragments)[i];
      blocks.push_back({one.begin, one.end - one.begin, one.piece ? one.piece->at : 0,
                        one.piece ? one.piece->stored : 0, static_cast<std::uint32_t>(i),
                        one.piece == nullptr});
    }
    if (blocks.empty()) return make_content(make_memory_source({}));
    auto self = shared_from_this();
    return make_block_content(std::move(blocks), [this, self, fragments](const Block& block, ByteSpan out) {
      const Fragment& one = (*fragments)[block.tag];
      if (one.piece == nullptr) return std::fill(out.begin(), out.end(), Byte{0});
      if (one.damaged)
        throw Malformed(fmt::format("JFFS2 data at offset {}: it does not fit its checksum", one.piece->at));
      Bytes data = unpack(*image_, *one.piece);
      std::copy_n(data.begin() + static_cast<std::ptrdiff_t>(one.begin - one.piece->offset), out.size(),
                  out.begin());
    });
  }

 private:
  static std::uint64_t size_of(const std::vector<Piece>& pieces) {
    return pieces.empty() ? 0 : pieces.back().size;
  }

  void row(const Name& name, const std::string& shown, const TreeSink& sink) {
    TreeItem item;
    Entry& entry = item.entry;
    entry.path = shown;
    item.ref = {name.inode};
    auto found = nodes_.pieces.find(name.inode);
    if (found == nodes_.pieces.end()) {
      entry.kind = name.type == kFolderType ? EntryKind::folder : EntryKind::file;
      if (name.type != kFolderType)
        return add_damaged(std::move(item), fmt::format("inode {} is missing", name.inode), sink);
      return sink(std::move(item));
    }
    const Piece& newest = found->second.back();
    entry.kind = kind_of_mode(newest.mode);
    entry.mode = newest.mode & 07777;
    entry.modified = from_unix(newest.modified);
    entry.extras().user_id = newest.uid;
    entry.extras().group_id = newest.gid;
    if (entry.kind == EntryKind::file) {
      entry.size = newest.size;
      entry.stored_size = 0;
      for (const Piece& one : found->second) entry.stored_size += one.stored;
      entry.flags |= Entry::has_sum;
      auto packed = std::find_if(found->second.begin(), found->second.end(),
                                 [](const Piece& one) { return one.packing > 1; });
      if (packed != found->second.end()) entry.method = packing_name(packed->packing);
      item.link_id = name.inode;
    } else if (entry.kind == EntryKind::symbolic_link) {
      entry.extras().link_target = as_text(content_of(newest));
    } else if (entry.kind == EntryKind::block_device || entry.kind == EntryKind::character_device) {
      device(content_of(newest), entry.extras());
    }
    sink(std::move(item));
  }

  Bytes content_of(const Piece& piece) const {
    try {
      return unpack(*image_, piece);
    } catch (const Error&) {
      return {};
    }
  }

  /// Two bytes: major and minor; four: the kernel's newer form.
  void device(const Bytes& raw, EntryExtra& extra) const {
    std::uint32_t number = 0;
    for (std::size_t i = 0; i < std::min<std::size_t>(raw.size(), 4); ++i)
      number |=
          std::uint32_t{raw[order_ == std::endian::little ? i : std::min<std::size_t>(raw.size(), 4) - 1 - i]}
          << (8 * i);
    if (raw.size() >= 4) return set_device(extra, number);
    extra.device_major = number >> 8;
    extra.device_minor = number & 0xFF;
  }

  SourcePtr image_;
  std::endian order_;
  bool with_deleted_;
  Nodes nodes_;
  std::map<std::uint32_t, std::vector<const std::vector<Name>*>> folders_;
};

Match recognise_jffs2(Probe& probe) {
  return order_of(probe.head(12)) ? Match::front : Match::none;
}

ContainerPtr open_jffs2(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  auto order = order_of(read_up_to(*image, 0, 12));
  if (!order) throw Malformed("JFFS2: it does not begin with a node");
  return std::make_shared<Jffs2Container>(std::move(image), *order, context);
}

}  // namespace

Format jffs2_format() {
  return {
      .id = "jffs2",
      .name = "JFFS2 file system",
      .family = "file system",
      .specification = "Linux kernel, include/uapi/linux/jffs2.h",
      .reads =
          "both byte orders; zlib, rtime, LZO, LZMA; the newest version of each file; hard links, devices; "
          "view \"with-deleted\": names that were taken away or over",
      .lacks = "rubin, extended attributes",
      .suffixes = {".jffs2"},
      .views = {kWithDeleted},
      .recognise = recognise_jffs2,
      .open = open_jffs2};
}

}  // namespace operculum
