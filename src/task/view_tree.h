#pragma once

#include <deque>
#include <map>
#include <mutex>

#include "container/locator.h"
#include "task/entering.h"

namespace operculum {

/// Something in a view: a file, a folder, or an entry that is itself a container and looks like a folder.
/// Once it was handed out it stays as it is, for as long as its tree.
struct ViewNode {
  std::uint64_t number = 0;            ///< from 1 on, in the order of the containers
  std::shared_ptr<const Entry> entry;  ///< null for a folder that is only implied by paths
  std::function<ContentPtr()> open;    ///< the data, where there is some
  std::map<std::string, ViewNode*> children;
  std::vector<std::pair<std::string_view, ViewNode*>> listed;  ///< the same, once somebody asked for all
  std::size_t depth = 0;                                       ///< folders around it
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

  static constexpr std::uint64_t kRoot = 1;
  /// That of a number; null when there is none, or when nobody was led to it yet.
  ViewNode* node(std::uint64_t number);
  /// What lies in a folder by that name; null when there is none.
  ViewNode* child(ViewNode& folder, const std::string& name);
  /// All that lies in a folder, by name; empty when it is none.
  std::span<const std::pair<std::string_view, ViewNode*>> list(ViewNode& folder);
  /// Random access to a file's bytes: decoded as they are read where the container allows, else all at once.
  SourcePtr open(ViewNode& file);

 private:
  ViewNode* add();
  bool may_be_container(const ViewNode& node, const std::string& name) const;
  void look_at(ViewNode& node, const std::string& name);
  void load(ViewNode& folder, const Format& format, const ContainerPtr& container, std::string_view inside);

  OpenContext& context_;
  Enter enter_;
  std::mutex mutex_;  // guards the nodes
  std::deque<ViewNode> nodes_;
};

}  // namespace operculum
