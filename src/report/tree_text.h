#pragma once

#include <deque>
#include <functional>
#include <string>
#include <string_view>
#include <unordered_set>
#include <vector>

#include "base/shown.h"

namespace operculum {

/// Paths as an indented tree, folders in the order in which they were first met; missing folders are filled
/// in. Of an entry it keeps its own name and note, and some fifty bytes.
class TreeText {
 public:
  TreeText();
  TreeText(const TreeText&) = delete;
  TreeText& operator=(const TreeText&) = delete;

  /// Adds a path, its parts separated by '/'; `note` stands behind its name. Returns how many bytes are kept.
  std::size_t add(std::string_view path, bool folder, std::string_view note);
  bool empty() const { return nodes_.size() == 1; }

  /// Hands out the lines in order.
  void draw(const std::function<void(const Shown&)>& line) const;

 private:
  using Number = std::uint32_t;  ///< of a node; 0, the root, where there is none
  struct Node {
    std::string_view text;  ///< its name, then its note
    std::uint32_t name_size = 0;
    Number parent = 0, first = 0, last = 0, next = 0;
    bool folder = false;
    std::string_view name() const { return text.substr(0, name_size); }
    std::string_view note() const { return text.substr(name_size); }
  };
  /// A folder by its parent and name.
  struct Place {
    Number parent;
    std::string_view name;
  };
  struct Hash {
    using is_transparent = void;
    const TreeText* tree;
    std::size_t operator()(Number node) const;
    std::size_t operator()(const Place& place) const;
  };
  struct Same {
    using is_transparent = void;
    const TreeText* tree;
    bool operator()(Number a, Number b) const { return a == b; }
    bool operator()(const Place& place, Number node) const;
    bool operator()(Number node, const Place& place) const { return (*this)(place, node); }
  };

  std::string_view keep(std::string_view name, std::string_view note);
  Number add_node(Number parent, std::string_view name, std::string_view note, bool folder);
  Number folder_in(Number parent, std::string_view name);

  std::deque<Node> nodes_;  // a deque: no room for all of them twice while it grows
  std::deque<std::string> texts_;
  std::unordered_set<Number, Hash, Same> folders_;
};

}  // namespace operculum
