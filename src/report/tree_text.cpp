#include "report/tree_text.h"

#include <memory>
#include <unordered_map>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kMostLevels = 100;

struct Node {
  std::string name, note;
  bool folder = false;
  std::vector<std::unique_ptr<Node>> children;
  std::unordered_map<std::string, Node*> folders;  // children that are folders, by name
};

Node& folder_in(Node& parent, const std::string& name) {
  auto [place, is_new] = parent.folders.try_emplace(name, nullptr);
  if (is_new) {
    parent.children.push_back(std::make_unique<Node>());
    place->second = parent.children.back().get();
    place->second->name = name;
    place->second->folder = true;
  }
  return *place->second;
}

void draw(const Node& root, std::string& out) {
  struct Level {
    const Node* node;
    std::size_t next;
    std::string indent;
  };
  std::vector<Level> levels = {{&root, 0, ""}};  // not recursive: paths may be thousands of parts deep
  while (!levels.empty()) {
    Level& level = levels.back();
    if (level.next == level.node->children.size()) {
      levels.pop_back();
      continue;
    }
    const Node& child = *level.node->children[level.next++];
    bool last = level.next == level.node->children.size();
    out += level.indent + (last ? "└─ " : "├─ ") + escape(child.name) + (child.folder ? "/" : "") +
           child.note + '\n';
    std::string indent = level.indent + (last ? "   " : "│  ");
    if (!child.children.empty()) levels.push_back({&child, 0, std::move(indent)});
  }
}

}  // namespace

Shown tree_text(const std::vector<TreeLine>& items) {
  Node root;
  for (const TreeLine& item : items) {
    Node* at = &root;
    std::vector<std::string_view> parts = split(item.path, '/');
    if (parts.size() > kMostLevels) {  // what lies deeper stands on one line: no terminal is that wide
      const char* from = parts[kMostLevels - 1].data();
      parts.resize(kMostLevels);
      parts.back() =
          std::string_view(from, static_cast<std::size_t>(item.path.data() + item.path.size() - from));
    }
    for (std::size_t i = 0; i + 1 < parts.size(); ++i) at = &folder_in(*at, std::string(parts[i]));
    std::string name(parts.back());
    if (item.folder) {
      if (name != ".") folder_in(*at, name).note = item.note;
      continue;
    }
    at->children.push_back(std::make_unique<Node>());
    at->children.back()->name = name;
    at->children.back()->note = item.note;
  }
  std::string out;
  draw(root, out);
  return Shown::made(std::move(out));
}

}  // namespace operculum
