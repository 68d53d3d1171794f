#pragma once

#include <string>

#include "task/view_tree.h"

struct fuse;

namespace operculum::cli {

/// A view that the kernel shows in a folder, read-only, for as long as this lives. libfuse is known here
/// alone.
class FuseView {
 public:
  /// Mounts `view`, which must outlive this, on an empty folder; `name` is what the system's list of mounts
  /// says of it. Throws IoError.
  FuseView(ViewTree& view, const std::string& folder, const std::string& name);
  ~FuseView();
  FuseView(const FuseView&) = delete;
  FuseView& operator=(const FuseView&) = delete;

  /// Answers the kernel until the view is unmounted or a signal comes; in the background unless `foreground`.
  void serve(bool foreground);

 private:
  fuse* fuse_ = nullptr;
};

}  // namespace operculum::cli
