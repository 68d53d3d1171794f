// Compound files: [MS-CFB], versions 3 and 4. Documents, thumbnails and databases of many programs are such.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/archive/cfb_file.h"
#include "format/archive/cfb_write.h"
#include "format/archive/formats.h"
#include "format/filesystem/file_tree.h"
#include "format/filesystem/new_tree.h"
#include "io/patches.h"

namespace operculum {
namespace {

using namespace cfb;

/// What is to be written, in the order of a walk through the tree.
class NodeList {
 public:
  /// Of what stays, the record and the bytes; null for what is made from scratch.
  explicit NodeList(const CompoundFile* before, std::function<SourcePtr(std::size_t)> bytes_of,
                    SpoolBudget& budget)
      : before_(before), bytes_of_(std::move(bytes_of)), budget_(budget) {
    NewNode root;
    if (before != nullptr) {
      root.record = before->nodes().front().record;
    } else {
      set_name(root.record, "Root Entry");
      root.record.type = root_node;
    }
    nodes_.push_back(std::move(root));
  }

  void add_children(const TreeNode& folder, std::size_t number) {
    for (const auto& [name, node] : folder.children) {
      NewNode made;
      if (node->old) made.record = before_->nodes()[*node->old + 1].record;
      bool same_name = node->old && before_->nodes()[*node->old + 1].name == name;
      if (!same_name) set_name(made.record, name);
      if (node->kind == EntryKind::folder) {
        made.record.type = storage_node;
        if (!node->old) made.record.modified = to_filetime(node->modified);
      } else if (node->kind == EntryKind::file && node->same_as == nullptr) {
        made.record.type = stream_node;
        made.bytes = node->content ? random_access(*node->content, budget_) : bytes_of_(*node->old);
      } else {
        throw Unsupported(fmt::format("links in a compound file (\"{}\")", escape(name)));
      }
      std::size_t own = nodes_.size();
      nodes_.push_back(std::move(made));
      nodes_[number].children.push_back(own);
      if (node->kind == EntryKind::folder) add_children(*node, own);
    }
  }

  std::vector<NewNode> take() { return std::move(nodes_); }

 private:
  const CompoundFile* before_;
  std::function<SourcePtr(std::size_t)> bytes_of_;
  SpoolBudget& budget_;
  std::vector<NewNode> nodes_;
};

/// Contents of the same size, where the old ones lie; nothing when some has another size.
std::optional<Assembly> replaced_in_place(const SourcePtr& file, Container& container, const Changes& changes,
                                          SpoolBudget& budget) {
  if (!changes.removed.empty() || !changes.renamed.empty() || !changes.added.empty()) return std::nullopt;
  Patches patches(file);
  for (const auto& [index, entry] : changes.replaced) {
    SourcePtr before = container.content(index)->source();
    if (before->size() != entry.size) return std::nullopt;
    SourcePtr after = random_access(*entry.content, budget);
    for (std::uint64_t at = 0; at < before->size();) {
      auto run = trace(*before, at, *file);
      if (!run) return std::nullopt;
      patches.put(run->at, after, at, run->length);
      at += run->length;
    }
  }
  return patches.assembly(file->size());
}

/// Whether all of `bytes` lies somewhere in `base`.
bool lies_in(const Source& bytes, const Source& base) {
  for (std::uint64_t at = 0; at < bytes.size();) {
    auto run = trace(bytes, at, base);
    if (!run || run->at + run->length > base.size()) return false;
    at += run->length;
  }
  return true;
}

class CfbContainer final : public Container {
 public:
  CfbContainer(const SourcePtr& bytes, const Limits& limits) : bytes_(bytes), file_(bytes) {
    for (const std::string& trouble : file_.troubles()) add_finding(Finding::Level::fault, trouble);
    if (file_.stated_size() > bytes->size() + (std::uint64_t{1} << 16)) {
      add_finding(Finding::Level::fault, fmt::format("the file is cut short: its sectors take {} bytes, and "
                                                     "there are {}",
                                                     file_.stated_size(), bytes->size()));
    }
    std::vector<std::string> paths(file_.nodes().size());
    for (std::size_t i = 1; i < file_.nodes().size(); ++i) {
      const Node& node = file_.nodes()[i];
      paths[i] = node.parent == 0 ? node.name : paths[node.parent] + "/" + node.name;
      Entry entry;
      entry.path = paths[i];
      entry.kind = node.storage ? EntryKind::folder : EntryKind::file;
      entry.modified = node.modified;
      if (node.created.known()) entry.extras().created = node.created;
      if (!node.storage) entry.size = entry.stored_size = node.size;
      limits.count_kept(entry);
      limits.count_retained(paths[i].size());
      entries_.push_back(std::move(entry));
    }
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    return make_content(file_.open(file_.nodes()[index + 1]));
  }

  /// Contents of the same size are put where the old ones lie; else the file is laid out anew, with its
  /// streams in front.
  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (changes.empty()) return unchanged(bytes_);
    bool bad_name = std::any_of(file_.nodes().begin() + 1, file_.nodes().end(), [](const Node& node) {
      return node.wide.empty() || node.record.name_length != (node.wide.size() + 1) * 2;
    });
    if (bad_name || !file_.troubles().empty()) throw Unsupported("writing a compound file that is damaged");
    if (auto made = replaced_in_place(bytes_, *this, changes, writing.spool)) return *std::move(made);
    TreeNode tree = changed_tree(*this, changes);
    NodeList nodes(
        &file_, [this](std::size_t index) { return whole_stream(index); }, writing.spool);
    nodes.add_children(tree, 0);
    return write(file_.header(), nodes.take());
  }

  Facts facts() override {
    Facts facts{{"version", std::to_string(file_.header().major_version)}};
    ByteView id = file_.nodes().front().record.clsid;
    if (std::any_of(id.begin(), id.end(), [](Byte b) { return b != 0; }))
      facts.emplace_back("class", guid_text(id));
    return facts;
  }

 private:
  /// A stream that is to be kept. Throws Malformed where some of it is not there.
  SourcePtr whole_stream(std::size_t index) {
    SourcePtr bytes = content(index)->source();
    if (!lies_in(*bytes, *bytes_))
      throw CutShort(fmt::format("\"{}\" is not all there", escape(entries_[index].path)));
    return bytes;
  }

  SourcePtr bytes_;
  CompoundFile file_;
  std::vector<Entry> entries_;
};

Match recognise_cfb(Probe& probe) {
  ByteView head = probe.head(kHeader);
  if (head.size() < kHeader || !std::equal(kMark.begin(), kMark.end(), head.begin())) return Match::none;
  return read_structure<Header>(head.data()).byte_order == 0xFFFE ? Match::front : Match::none;
}

ContainerPtr open_cfb(const Input& input, OpenContext& context) {
  return std::make_shared<CfbContainer>(random_access(*input.content, context.spool), context.limits);
}

/// Version 3, with sectors of 512 bytes.
Assembly pack_cfb(const std::vector<NewEntry>& entries, const Writing& writing) {
  TreeNode tree = new_tree(entries);
  NodeList nodes(nullptr, {}, writing.spool);
  nodes.add_children(tree, 0);
  return write({}, nodes.take());
}

}  // namespace

Format cfb_format() {
  return {.id = "cfb",
          .name = "compound file",
          .family = "archive",
          .specification = "[MS-CFB]",
          .reads = "versions 3 and 4, long sector tables, short streams; storages as folders",
          .lacks = "",
          .writes = "all of its parts; from scratch in version 3",
          .suffixes = {".doc", ".xls", ".ppt", ".msg", ".db", ".suo", ".max", ".vsd", ".pub"},
          .kind = "document",
          .own_order = true,
          .recognise = recognise_cfb,
          .open = open_cfb,
          .pack = pack_cfb,
          .keeps = {.links = false, .hard_links = false, .modes = false, .owners = false},
          .records = {record_at<Header>("header", 0)}};
}

}  // namespace operculum
