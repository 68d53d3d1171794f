#pragma once

#include <string>
#include <vector>

#include "support/program.h"
#include "support/temp_folder.h"

namespace operculum::test {

/// An image that the kernel has mounted in a folder of its own, unmounted with the object.
class KernelMount {
 public:
  /// `arguments` are mount's, in front of the image and the folder.
  KernelMount(const TempFolder& folder, const std::string& image, std::vector<std::string> arguments);
  ~KernelMount();
  KernelMount(const KernelMount&) = delete;
  KernelMount& operator=(const KernelMount&) = delete;

  bool works() const { return ran_.exit_code == 0; }
  const std::string& why() const { return ran_.err; }  ///< it does not
  const std::string& path() const { return point_; }

 private:
  std::string point_;
  Ran ran_;
};

}  // namespace operculum::test
