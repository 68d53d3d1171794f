#pragma once

#include <map>

#include "support/open.h"
#include "support/sample_tree.h"
#include "support/temp_folder.h"

namespace operculum::test {

/// Images that the Linux kernel wrote; tests/fixtures/kernel/make.sh says how. Unpacked into a folder of its
/// own.
class KernelImages {
 public:
  /// `set` is a name in tests/fixtures/kernel without its ending.
  explicit KernelImages(const std::string& set);

  std::string path(const std::string& name = "") const { return folder_.path(name); }
  const TempFolder& folder() const { return folder_; }
  bool has(const std::string& name) const { return folder_.has(name); }
  void remove(const std::string& name) const;
  /// Puts a file out of sight, and back.
  void hide(const std::string& name, bool hidden = true) const;

  /// One of the files, with the others beside it.
  Held open(
      const std::string& name, const std::function<void(OpenContext&)>& set_up = [](OpenContext&) {}) const;

 private:
  TempFolder folder_;
};

/// What a device of the images held when it was made.
struct DeviceSum {
  std::uint64_t size = 0;
  std::string sha256;
};
const DeviceSum& device_sum(const std::string& name);
/// The same of what an entry of a container holds.
DeviceSum sum_of_entry(Container& container, std::size_t index);

/// The tree in the file systems, with names cut to `most` bytes each; with links and devices or without.
SampleTree kernel_tree(std::size_t most, bool links);

}  // namespace operculum::test
