#pragma once

#include <unordered_map>

#include "task/link_tree.h"
#include "task/output_names.h"
#include "task/unpack_log.h"
#include "task/unpack_target.h"

namespace operculum {

/// Makes links when everything else is there, so that nothing is ever written through one.
class LinkMaker {
 public:
  LinkMaker(UnpackTarget& target, const OutputNames& names, const UnpackRequest& request, UnpackLog& log,
            Progress& progress)
      : target_(target),
        names_(names),
        request_(request),
        log_(log),
        progress_(progress),
        tree_([&target](const std::string& path) { return target.link_at(path); }) {}

  /// Keeps a link for the end. `path` is its path from where the walk began, `given` its output path.
  void add(const Entry& entry, const std::string& path, const OutputNames::Given& given,
           ContainerPtr container);

  /// A later entry takes the place of the link that was to be there, if any.
  void forget(const std::string& output);

  /// Makes all links; the files they name must have been written.
  void make_all();

 private:
  struct Pending {
    EntryKind kind;
    std::string path, output, target;  // for a hard link `target` is a stored path, through nested containers
    std::string remark;
    Timestamp modified;
    std::optional<Owner> owner;
    ContainerPtr container;  // of a hard link: where its data can be had when its target is not unpacked
    std::string target_in_container;
    bool replaces_earlier = false;  // an earlier entry of the same path
  };
  void symbolic_link(const Pending& link);
  void hard_link(const Pending& link);
  void copy_instead(const Pending& link);
  bool make_room(const Pending& link);
  std::optional<std::size_t> last_named(Container& container, const std::string& path);

  UnpackTarget& target_;
  const OutputNames& names_;
  const UnpackRequest& request_;
  UnpackLog& log_;
  Progress& progress_;
  LinkTree tree_;
  std::vector<Pending> pending_;                            // an empty output path: not to be made
  std::unordered_map<std::string, std::size_t> by_output_;  // into pending_
  Container* indexed_ = nullptr;                            // whose files index_ names
  std::unordered_map<std::string_view, std::size_t> index_;
};

}  // namespace operculum
