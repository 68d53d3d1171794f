#pragma once

#include <functional>
#include <memory>
#include <string>

#include "task/view_tree.h"

namespace operculum::cli {

/// What the kernel shows in a folder, read-only, for as long as this lives. libfuse is known here alone.
class FuseView {
 public:
  /// Mounts on an empty folder; `name` is what the system's list of mounts says of it. `take_away` unmounts
  /// it: when this ends the process may not do that any more. Throws IoError.
  FuseView(const std::string& folder, const std::string& name, std::function<void()> take_away);
  ~FuseView();
  FuseView(const FuseView&) = delete;
  FuseView& operator=(const FuseView&) = delete;

  /// Answers the kernel from `view` until it is unmounted or a signal comes; in the background unless
  /// `foreground`. Tells whether it was unmounted: then another view may be there already, and is left alone.
  bool serve(ViewTree& view, bool foreground);

  struct Server;  ///< what answers the kernel's questions

 private:
  std::unique_ptr<Server> server_;
  bool unmounted_ = false;
  std::function<void()> take_away_;
};

/// Unmounts what this program mounted on the folder, if it is still there. 0 when it is not there any more.
int unmount_view(const std::string& folder);

}  // namespace operculum::cli
