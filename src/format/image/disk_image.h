#pragma once

#include "base/facts.h"
#include "container/format.h"
#include "io/assembly.h"

namespace operculum {

/// A disk taken out of its wrapper.
struct DiskImage {
  SourcePtr bytes;  ///< the disk as the machine sees it; Entry::kUnknownSize long where that is not known
  std::string_view method = "stored";
  Facts facts;
  std::vector<Finding> findings;
  std::optional<std::uint32_t> crc32;  ///< of all bytes, where stored
  bool summed = false;                 ///< another checksum is compared when bytes are read
  /// The image with another disk of the same size; not there for images that are not written.
  std::function<Assembly(const SourcePtr& disk)> rewrite = {};
};

/// The fact by which images name the state of their contents, in lower case; a second one of the name stays
/// whatever becomes of them.
inline constexpr std::string_view kIdFact = "id";

/// The image that a differencing image is based on.
struct ParentImage {
  std::string name;              ///< as stored, with folders of another machine
  std::vector<std::string> ids;  ///< kIdFact of the right one, any of them; empty: the format does not say
  std::vector<std::string> origins = {};  ///< what find it also after it was changed, which is then told
};

/// A container of one entry, the disk; locators step through it.
ContainerPtr make_disk_image(const Input& input, DiskImage image);

/// The parent, looked for beside the image by the last part of its name and, where that is not the right one,
/// by its id. When it is missing, a source that says so when it is read; `findings` then tells, and also when
/// it is an image with another id.
SourcePtr open_parent(const Input& input, OpenContext& context, const ParentImage& wanted,
                      std::vector<Finding>& findings);

}  // namespace operculum
