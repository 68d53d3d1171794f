#pragma once

#include "container/format.h"

namespace operculum {

/// A disk taken out of its wrapper.
struct DiskImage {
  SourcePtr bytes;  ///< the disk as the machine sees it
  std::string_view method = "stored";
  std::vector<std::pair<std::string, std::string>> facts;
  std::vector<Finding> findings;
  std::optional<std::uint32_t> crc32;  ///< of all bytes, where stored
};

/// A container of one entry, the disk; locators step through it.
ContainerPtr make_disk_image(const Input& input, DiskImage image);

/// The image that a differencing image is based on, looked for beside it by the last part of `stored_name`.
/// When it is missing, a source that says so when it is read; `findings` then tells, too.
SourcePtr open_parent(const Input& input, OpenContext& context, const std::string& stored_name,
                      std::vector<Finding>& findings);

}  // namespace operculum
