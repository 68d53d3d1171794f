#pragma once

#include "container/locator.h"

namespace operculum {

/// Something that an installer would put on a machine.
struct InstalledItem {
  std::string path;
  EntryKind kind = EntryKind::file;
  std::uint64_t size = 0;  ///< bytes
  std::uint32_t mode = Entry::kNoMode;
  std::string owner;  ///< "root:root"; empty: not said
  std::string link_target;
  bool configuration = false;  ///< a person may have changed it since
};

/// What would be put in one place: a top folder of the machine, or a folder that the system knows by a name.
struct InstalledPlace {
  std::string place;
  std::uint64_t files = 0, bytes = 0;
  std::vector<InstalledItem> items;
};

/// What one package would do.
struct PackageReport {
  std::string target;  ///< its locator
  std::string_view format;
  Installation plan;
  std::vector<InstalledPlace> places;
  std::uint64_t files = 0, bytes = 0;
  std::uint64_t on_disk = 0;  ///< bytes, in blocks of 4096
  std::vector<std::string>
      removal;  ///< files, links and shortcuts, then the package's own folders from the deepest
                ///< up, with a slash behind: to be removed only when they are empty
  std::vector<std::string> undo;     ///< what else is to be taken back: services, registry values
  std::vector<std::string> effects;  ///< what scripts make beside the files, as far as they say it
  std::vector<Finding> findings;
};

/// What installers at, or in, `target` would do; nothing is run. Packages within other containers are found,
/// also several of them; none when there is no installer. Throws what resolving the locator throws.
std::vector<PackageReport> report_installation(const std::string& target, OpenContext& context);

}  // namespace operculum
