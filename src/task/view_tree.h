#pragma once

#include <map>
#include <mutex>

#include "container/locator.h"

namespace operculum {

/// Something in a view: a file, a folder, or an entry that is itself a container and looks like a folder.
struct ViewNode {
  std::shared_ptr<const Entry> entry;  ///< null for a folder that is only implied by paths
  std::function<ContentPtr()> open;    ///< the data, where there is some
  std::map<std::string, std::shared_ptr<ViewNode>> children;
  bool folder = false;
  bool looked_at = false;  ///< whether it is a container is known
};

/// A container and all that lie in it as one tree of folders and files, for a mounted view. What an entry is
/// gets looked at when it is first asked for. Safe to share between threads.
class ViewTree {
 public:
  /// `place` must be a container; `context` must outlive the tree. Throws Error.
  ViewTree(const Place& place, OpenContext& context);

  /// What is known of a path ("" is the root); nothing when there is none.
  struct Known {
    std::shared_ptr<const Entry> entry;
    bool folder = false;
    std::size_t children = 0;
  };
  std::optional<Known> find(std::string_view path);
  std::vector<std::string> names(std::string_view path);  ///< in a folder; empty when it is none
  /// Random access to a file's bytes: decoded as they are read where the container allows, else all at once.
  SourcePtr open(std::string_view path);

 private:
  std::shared_ptr<ViewNode> walk_to(std::string_view path);
  void look_at(ViewNode& node, const std::string& name, std::size_t depth);
  void load(ViewNode& folder, const ContainerPtr& container, std::string_view inside);

  OpenContext& context_;
  std::mutex mutex_;  // guards the nodes
  std::shared_ptr<ViewNode> root_;
};

}  // namespace operculum
