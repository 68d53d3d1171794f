#include "report/tree_text.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kMostLevels = 100;
constexpr std::size_t kBlock = 64 * 1024;  // bytes of names that lie together

}  // namespace

std::size_t TreeText::Hash::operator()(Number node) const {
  return (*this)(Place{tree->nodes_[node].parent, tree->nodes_[node].name()});
}

std::size_t TreeText::Hash::operator()(const Place& place) const {
  return std::hash<std::string_view>()(place.name) ^ (place.parent * 0x9e3779b97f4a7c15);
}

bool TreeText::Same::operator()(const Place& place, Number node) const {
  return tree->nodes_[node].parent == place.parent && tree->nodes_[node].name() == place.name;
}

TreeText::TreeText() : nodes_(1), folders_(0, Hash{this}, Same{this}) {}

std::string_view TreeText::keep(std::string_view name, std::string_view note) {
  std::size_t size = name.size() + note.size();
  if (texts_.empty() || texts_.back().capacity() - texts_.back().size() < size) {
    texts_.emplace_back();
    texts_.back().reserve(std::max(size, kBlock));
  }
  std::string& block = texts_.back();  // never grows beyond its room: views into it stay
  std::size_t at = block.size();
  block.append(name).append(note);
  return std::string_view(block).substr(at);
}

TreeText::Number TreeText::add_node(Number parent, std::string_view name, std::string_view note,
                                    bool folder) {
  auto number = static_cast<Number>(nodes_.size());
  nodes_.push_back({keep(name, note), static_cast<std::uint32_t>(name.size()), parent, 0, 0, 0, folder});
  Node& above = nodes_[parent];
  (above.first == 0 ? above.first : nodes_[above.last].next) = number;
  above.last = number;
  return number;
}

TreeText::Number TreeText::folder_in(Number parent, std::string_view name) {
  if (auto known = folders_.find(Place{parent, name}); known != folders_.end()) return *known;
  Number number = add_node(parent, name, "", true);
  folders_.insert(number);
  return number;
}

std::size_t TreeText::add(std::string_view path, bool folder, std::string_view note) {
  constexpr std::size_t kOfFolder = 32;  // bytes that the table of folders takes for one
  std::size_t before = nodes_.size(), known = folders_.size();
  std::vector<std::string_view> parts = split(path, '/');
  if (parts.size() > kMostLevels) {  // what lies deeper stands on one line: no terminal is that wide
    const char* from = parts[kMostLevels - 1].data();
    parts.resize(kMostLevels);
    parts.back() = std::string_view(from, static_cast<std::size_t>(path.data() + path.size() - from));
  }
  Number at = 0;
  for (std::size_t i = 0; i + 1 < parts.size(); ++i) at = folder_in(at, parts[i]);
  std::string_view name = parts.back();
  if (!folder) {
    add_node(at, name, note, false);
  } else if (name != ".") {
    Node& node = nodes_[folder_in(at, name)];
    if (!note.empty()) node.text = keep(node.name(), note);
  }
  return (nodes_.size() - before) * sizeof(Node) + (folders_.size() - known) * kOfFolder + name.size() +
         note.size();
}

void TreeText::draw(const std::function<void(const Shown&)>& line) const {
  struct Level {
    Number next;
    std::string indent;
  };
  std::vector<Level> levels = {{nodes_[0].first, ""}};  // not recursive: paths may be many parts deep
  while (!levels.empty()) {
    Level& level = levels.back();
    if (level.next == 0) {
      levels.pop_back();
      continue;
    }
    const Node& node = nodes_[level.next];
    level.next = node.next;
    bool last = node.next == 0;
    line(Shown::made(fmt::format("{}{}{}{}{}\n", level.indent, last ? "└─ " : "├─ ", escape(node.name()),
                                 node.folder ? "/" : "", node.note())));
    std::string indent = level.indent + (last ? "   " : "│  ");
    if (node.first != 0) levels.push_back({node.first, std::move(indent)});
  }
}

}  // namespace operculum
