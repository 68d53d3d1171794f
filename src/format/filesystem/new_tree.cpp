#include "format/filesystem/new_tree.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kDeepest = 1024;  // folders inside each other

class TreeMaker {
 public:
  TreeNode root;

  TreeNode& put(const std::string& path, TreeNode node) {
    std::vector<std::string_view> parts = split(path, '/');
    if (parts.size() > kDeepest) throw Unsupported("so many folders inside each other: " + escape(path));
    TreeNode* at = &root;
    for (std::size_t i = 0; i + 1 < parts.size(); ++i) {
      auto& slot = slot_in(*at, parts[i], path);
      if (!slot) {
        slot = std::make_unique<TreeNode>();
        slot->modified = node.modified;  // of folders that are made for what is in them
      }
      at = slot.get();
    }
    auto& slot = slot_in(*at, parts.back(), path);
    if (slot) {
      bool made_before = slot->kind == EntryKind::folder && node.kind == EntryKind::folder && !slot->old;
      if (!made_before) throw Unsupported(fmt::format("two entries \"{}\"", escape(path)));
      node.children = std::move(slot->children);
    }
    slot = std::make_unique<TreeNode>(std::move(node));
    return *slot;
  }

  void link(TreeNode& node, const std::string& target) { links_.emplace_back(&node, target); }

  /// Once everything is there: hard links become names of their files.
  void join_links() {
    for (auto& [node, target] : links_) {
      TreeNode* found = find(target);
      if (found == nullptr || found->kind != EntryKind::file || found->same_as != nullptr)
        throw Unsupported(fmt::format("a hard link to \"{}\", which is no file here", escape(target)));
      node->kind = EntryKind::file;
      node->same_as = found;
      ++found->names;
    }
  }

 private:
  static std::unique_ptr<TreeNode>& slot_in(TreeNode& folder, std::string_view name,
                                            const std::string& path) {
    if (name.empty() || name == "." || name == ".." || name.find('\0') != std::string_view::npos)
      throw Unsupported(fmt::format("the path \"{}\" in a file system", escape(path)));
    if (folder.kind != EntryKind::folder)
      throw Unsupported(fmt::format("\"{}\", which lies in something that is no folder", escape(path)));
    return folder.children[std::string(name)];
  }

  TreeNode* find(std::string_view path) {
    TreeNode* at = &root;
    for (std::string_view name : split(path, '/')) {
      auto found = at->children.find(name);
      if (found == at->children.end()) return nullptr;
      at = found->second.get();
    }
    return at;
  }

  std::vector<std::pair<TreeNode*, std::string>> links_;
};

TreeNode node_of(const NewEntry& entry) {
  TreeNode node;
  node.kind = entry.kind;
  node.mode = entry.mode;
  node.modified = entry.modified;
  node.link_target = entry.link_target;
  node.extra.user_id = entry.user_id;
  node.extra.group_id = entry.group_id;
  node.extra.device_major = entry.device_major;
  node.extra.device_minor = entry.device_minor;
  node.extra.attributes = entry.attributes;
  node.content = entry.content;
  node.size = entry.size;
  return node;
}

TreeNode node_of(const Entry& entry, std::size_t index) {
  TreeNode node;
  node.kind = entry.kind;
  node.mode = entry.mode == Entry::kNoMode ? (entry.kind == EntryKind::folder ? 0755 : 0644) : entry.mode;
  node.modified = entry.modified;
  node.link_target = entry.link_target();
  if (entry.extra) node.extra = *entry.extra;
  node.size = entry.size_known() ? entry.size : 0;
  node.old = index;
  return node;
}

void put_new(TreeMaker& maker, const NewEntry& entry) {
  TreeNode& node = maker.put(entry.path, node_of(entry));
  if (entry.kind == EntryKind::hard_link) maker.link(node, entry.link_target);
}

}  // namespace

TreeNode new_tree(const std::vector<NewEntry>& entries) {
  TreeMaker maker;
  for (const NewEntry& entry : entries) put_new(maker, entry);
  maker.join_links();
  return std::move(maker.root);
}

TreeNode changed_tree(Container& container, const Changes& changes) {
  TreeMaker maker;
  std::span<const Entry> entries = container.entries();
  std::map<std::string_view, std::string> renamed;
  for (const auto& [index, path] : changes.renamed) renamed[entries[index].path] = path;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (changes.removed.contains(i)) continue;
    const Entry& entry = entries[i];
    if (entry.is(Entry::damaged))
      throw Unsupported(
          fmt::format("writing a file system again in which \"{}\" is damaged", escape(entry.path)));
    auto moved = changes.renamed.find(i);
    TreeNode& node =
        maker.put(moved == changes.renamed.end() ? entry.path : moved->second, node_of(entry, i));
    if (entry.kind == EntryKind::hard_link) {
      auto target = renamed.find(entry.link_target());
      maker.link(node, target == renamed.end() ? std::string(entry.link_target()) : target->second);
    }
    auto replaced = changes.replaced.find(i);
    if (replaced == changes.replaced.end()) continue;
    node.content = replaced->second.content;
    node.size = replaced->second.size;
    node.link_target = replaced->second.link_target;
  }
  for (const NewEntry& entry : changes.added) put_new(maker, entry);
  maker.join_links();
  return std::move(maker.root);
}

std::int64_t latest_time(TreeNode& root) {
  std::int64_t latest = 0;
  each_node(root, "", [&](TreeNode& node, const std::string&) {
    if (node.modified.known()) latest = std::max(latest, node.modified.seconds);
  });
  return latest;
}

}  // namespace operculum
