#pragma once

#include <map>
#include <mutex>

#include "container/locator.h"
#include "task/entering.h"

namespace operculum {

/// Something in a view: a file, a folder, or an entry that is itself a container and looks like a folder.
struct ViewNode {
  std::shared_ptr<const Entry> entry;  ///< null for a folder that is only implied by paths
  std::function<ContentPtr()> open;    ///< the data, where there is some
  std::map<std::string, std::shared_ptr<ViewNode>> children;
  bool folder = false;
  bool looked_at = false;  ///< whether it is a container is known
  bool is_part = false;    ///< a partition, or what a disk image holds: not a file with a name of its own
};

/// A container and all that lie in it as one tree of folders and files, for a mounted view. What an entry is
/// gets looked at when it is first asked for. Solid layers are decoded once, into the spool. Safe to share
/// between threads.
class ViewTree {
 public:
  /// `place` must be a container; `context` must outlive the tree. Throws Error.
  ViewTree(const Place& place, OpenContext& context, Enter enter);

  /// What is known of a path ("" is the root); nothing when there is none.
  struct Known {
    std::shared_ptr<const Entry> entry;
    bool folder = false;
    std::size_t children = 0;
  };
  std::optional<Known> find(std::string_view path);
  struct Named {
    std::string name;
    Known known;
  };
  std::vector<Named> list(std::string_view path);  ///< what lies in a folder; empty when it is none
  /// Random access to a file's bytes: decoded as they are read where the container allows, else all at once.
  SourcePtr open(std::string_view path);

 private:
  std::shared_ptr<ViewNode> walk_to(std::string_view path);
  bool may_be_container(const ViewNode& node, const std::string& name) const;
  void look_at(ViewNode& node, const std::string& name, std::size_t depth);
  void load(ViewNode& folder, const Format& format, const ContainerPtr& container, std::string_view inside);

  OpenContext& context_;
  Enter enter_;
  std::mutex mutex_;  // guards the nodes
  std::shared_ptr<ViewNode> root_;
};

}  // namespace operculum
