#pragma once

#include "container/format.h"

namespace operculum {

/// What is left when compressed streams around it are taken off.
struct Unwrapped {
  ContentPtr content;
  std::string codec;     ///< the outermost format; empty when there was none
  bool checked = false;  ///< one of the formats has a checksum over all bytes
};

/// Takes off single compressed streams, however many lie around each other. Throws as opening does.
Unwrapped unwrapped(ContentPtr packed, OpenContext& context);

/// Paths of what a service manager, a scheduler or a desktop starts, told from where a file lies in a
/// system's tree ("usr/lib/systemd/system/x.service").
std::optional<InstallAction> started_by_path(std::string_view path);

}  // namespace operculum
