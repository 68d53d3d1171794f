#include "task/view_tree.h"

#include <algorithm>
#include <climits>

#include "base/text.h"
#include "task/solid_data.h"

namespace operculum {
namespace {

constexpr std::size_t kMostParts = PATH_MAX / 2;

std::vector<std::string> parts_within(std::string_view path) {
  std::vector<std::string> parts;
  for (std::string_view part : split(path, '/')) {
    if (!part.empty() && part != "." && part != "..") parts.emplace_back(part);
  }
  return parts;
}

}  // namespace

ViewTree::ViewTree(const Place& place, OpenContext& context, Enter enter) : context_(context), enter_(enter) {
  ViewNode& root = *add();
  root.folder = root.looked_at = true;
  load(root, *place.layers.back().format, place.layers.back().container, place.inside);
}

ViewNode* ViewTree::add() {
  ViewNode& made = nodes_.emplace_back();
  made.number = nodes_.size();
  return &made;
}

/// Hangs the entries of a container, those beneath `inside`, into the tree.
void ViewTree::load(ViewNode& folder, const Format& format, const ContainerPtr& container,
                    std::string_view inside) {
  std::shared_ptr<const SolidData> solid;
  if (container->access() == Access::forward)
    solid = std::make_shared<const SolidData>(*container, context_.spool, [](std::size_t) { return true; });
  auto opener = [&](std::size_t i) -> std::function<ContentPtr()> {
    if (solid) return [solid, i] { return solid->content(i); };
    return [container, i] { return container->content(i); };
  };
  std::span<const Entry> entries = container->entries();
  std::vector<std::pair<ViewNode*, std::string>> links;
  std::map<std::string_view, std::size_t> by_path;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    std::string_view path = entries[i].path;
    by_path[path] = i;
    if (!inside.empty()) {
      if (!path.starts_with(inside) || path.size() <= inside.size() || path[inside.size()] != '/') continue;
      path.remove_prefix(inside.size() + 1);
    }
    ViewNode* node = &folder;
    std::vector<std::string> parts = parts_within(path);
    if (parts.size() > kMostParts) continue;  // no path that long can be asked for
    for (const std::string& part : parts) {
      node->folder = node->looked_at = true;
      ViewNode*& child = node->children[part];
      if (child == nullptr) {
        child = add();
        child->depth = node->depth + 1;
      }
      node = child;
    }
    if (node == &folder) continue;
    node->entry = std::shared_ptr<const Entry>(container, &entries[i]);
    node->is_part = holds_parts(format);
    if (entries[i].kind == EntryKind::folder) node->folder = node->looked_at = true;
    if (entries[i].has_data()) node->open = opener(i);
    if (entries[i].kind == EntryKind::hard_link) links.emplace_back(node, entries[i].link_target());
  }
  for (auto& [node, target] : links) {  // a second name is as good as the first
    auto found = by_path.find(target);
    if (found == by_path.end() || !entries[found->second].has_data()) continue;
    node->entry = std::shared_ptr<const Entry>(container, &entries[found->second]);
    node->open = opener(found->second);
  }
}

bool ViewTree::may_be_container(const ViewNode& node, const std::string& name) const {
  return node.is_part ||
         operculum::may_be_container(name, node.entry ? node.entry->size : 0, enter_, context_);
}

/// Finds out whether a file is a container; then it becomes a folder.
void ViewTree::look_at(ViewNode& node, const std::string& name) {
  if (node.looked_at) return;
  node.looked_at = true;
  if (!node.open || !may_be_container(node, name)) return;
  try {
    check_depth(node.depth + 1, context_.limits);
    Input input{node.open(), name};
    Opened opened = open_container(input, context_);
    while (opened.container && opened.format->single_stream) {  // as locators do: what it holds stands for it
      input = {opened.container->content(0), opened.container->entries()[0].path};
      Opened inner = open_container(input, context_);
      if (!inner.container) break;
      opened = inner;
    }
    if (!opened.container) return;
    load(node, *opened.format, opened.container, "");
    node.folder = true;
  } catch (const std::exception&) {
    node.children.clear();  // cannot be entered: a file it stays
    node.folder = false;
  }
}

ViewNode* ViewTree::node(std::uint64_t number) {
  std::lock_guard lock(mutex_);
  if (number == 0 || number > nodes_.size()) return nullptr;
  ViewNode& found = nodes_[number - 1];
  return found.looked_at ? &found : nullptr;
}

ViewNode* ViewTree::child(ViewNode& folder, const std::string& name) {
  std::lock_guard lock(mutex_);
  auto found = folder.children.find(name);
  if (found == folder.children.end()) return nullptr;
  look_at(*found->second, name);
  return found->second;
}

std::span<const std::pair<std::string_view, ViewNode*>> ViewTree::list(ViewNode& folder) {
  std::lock_guard lock(mutex_);
  if (folder.listed.empty()) {
    for (const auto& [name, child] : folder.children) {
      look_at(*child, name);
      folder.listed.emplace_back(name, child);
    }
  }
  return folder.listed;
}

SourcePtr ViewTree::open(ViewNode& file) {
  std::function<ContentPtr()> open_data;
  {
    std::lock_guard lock(mutex_);
    if (!file.open || file.folder) throw Malformed("there is no file of that name");
    open_data = file.open;
  }
  context_.limits.spent->spooled = 0;  // each file is an answer of its own
  return random_access(*open_data(), context_.spool);
}

}  // namespace operculum
