#include "support/kernel_mount.h"

#include <filesystem>

#include "support/system_tools.h"

namespace operculum::test {

KernelMount::KernelMount(const TempFolder& folder, const std::string& image,
                         std::vector<std::string> arguments)
    : point_(folder.path("mounted")) {
  std::filesystem::create_directories(point_);
  arguments.insert(arguments.end(), {folder.path(image), point_});
  ran_ = tool("mount", arguments, folder.path());
}

KernelMount::~KernelMount() {
  if (ran_.exit_code == 0) tool("umount", {point_}, "/");
}

}  // namespace operculum::test
