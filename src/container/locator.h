#pragma once

#include <optional>

#include "container/open.h"
#include "container/outer_file.h"

namespace operculum {

/// One container on the way to what a locator names.
struct Layer {
  const Format* format;
  ContainerPtr container;
  std::string name;                                 ///< of the file or entry that it was found in
  std::uint64_t stored_size = Entry::kUnknownSize;  ///< of that file or entry, in bytes
  ContentPtr content;                               ///< its bytes
  std::shared_ptr<const Entry> entry;               ///< it, in the layer around; null for the file on disk
};

/// What a locator names. The layers lead from the file on disk inwards; the last one holds `inside`. No
/// layers: the file is no container that we know.
struct Place {
  std::string file;       ///< the file on disk
  SourcePtr file_source;  ///< null where its bytes only come in, see OpenContext::once
  unsigned parts = 1;     ///< numbered files that were joined to it
  std::vector<Layer> layers;
  std::string inside;                  ///< a folder's or entry's path in the last layer; empty for all of it
  std::shared_ptr<const Entry> entry;  ///< the entry in the last layer, when it names one
  ContentPtr content;                  ///< the bytes of the file or entry named; empty for a folder
  std::string name;                    ///< of what is named: the last part of the locator
  std::vector<std::string> almost;     ///< what it looks like, when it is no container; see Probe::almost

  bool is_container() const { return !layers.empty() && !entry; }
};

/// How to read a locator that ends at an entry which is itself a container.
enum class Step {
  into,     ///< the container's contents are meant (list, verify)
  no_more,  ///< the entry's own bytes are meant (show)
  bytes,    ///< as no_more, and a file on disk is not looked at either (layout check)
  file,     ///< as no_more, but what no person calls a file, a partition of a disk, is entered (unpack)
};

/// Resolves a locator: a path that goes on into containers. What it begins with (see open_outer_file) is
/// opened; from there each entry that is itself a container is stepped into; layers that hold a single stream
/// are stepped through without being named. Throws IoError, Malformed or the error of a layer, with the
/// layer's name in front.
Place resolve(const std::string& locator, OpenContext& context, Step step);

/// A sentence for those who wanted a container: "it is no container that this program knows", and what it
/// looks like, or `what_to_try`.
std::string no_container_text(const Place& place, std::string_view what_to_try);

/// Throws LimitExceeded when `depth` containers inside each other are more than the limits allow.
void check_depth(std::uint64_t depth, const Limits& limits);

}  // namespace operculum
