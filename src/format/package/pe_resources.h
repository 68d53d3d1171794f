#pragma once

#include <functional>

#include "base/facts.h"
#include "container/container.h"
#include "format/package/pe_image.h"

namespace operculum::pe {

constexpr std::uint32_t kVersionType = 16;  ///< Resource::type of version information

/// A leaf of the resource tree.
struct Resource {
  std::uint32_t type = 0;  ///< 0 when it has a name
  std::string type_name;   ///< empty when it has a number
  std::uint32_t number = 0;
  std::string name;  ///< empty when it has a number
  std::uint32_t language = 0;
  std::uint64_t at = 0, size = 0;  ///< in the file; clipped to it
};

/// All leaves, in the order of the tree. What is broken is told to `trouble`; loops and absurd counts end.
std::vector<Resource> read_resources(const Source& bytes, const Image& image,
                                     const std::function<void(const std::string&)>& trouble);

/// A resource in a form that other programs open.
struct Presented {
  std::string path;  ///< below "resources/"
  std::uint64_t at = 0, size = 0;
  std::function<Bytes()> make;  ///< empty: the raw bytes are what it is
};

/// What a person wants to see of the resources: icons as .ico, bitmaps with their header, string tables and
/// version information as text, everything else as it is.
std::vector<Presented> present(const SourcePtr& bytes, const std::vector<Resource>& resources);

/// Version information as lines "Name: value" ([VS_VERSIONINFO] of the resource formats); empty when it is no
/// such.
Facts read_version(ByteView raw);

}  // namespace operculum::pe
