#pragma once

#include "base/facts.h"
#include "container/container.h"
#include "format/package/msi_database.h"

namespace operculum::msi {

/// A row of the media table: a disk or a cabinet with the files up to a number.
struct Media {
  std::int32_t last_sequence = 0;
  std::string cabinet;  ///< a file beside the database, "#stream" within it, or empty: loose files
};

/// A file that an installation would put somewhere.
struct InstalledFile {
  std::string path;    ///< from the name of a place on: "ProgramFiles/Saltmarsh/chart.exe"
  std::string source;  ///< where a loose file lies, from the database's folder on
  std::string key;     ///< in the file table, which is its name in a cabinet
  std::string version;
  std::uint64_t size = 0;
  Bytes md5;              ///< empty: not stored
  std::size_t media = 0;  ///< in InstallTree::media
  bool loose = false;     ///< in no cabinet
  bool read_only = false;
};

/// The tree that an installation makes.
struct InstallTree {
  std::vector<InstalledFile> files;              ///< by their sequence number
  std::vector<Media> media;                      ///< by their last sequence number
  std::map<std::string, std::string> folders;    ///< key in the directory table to path
  std::map<std::string, std::string> key_paths;  ///< file key to path
};

/// The name of the cabinet stream of a merge module, which has no media table.
constexpr std::string_view kModuleCabinet = "MergeModule.CABinet";

/// `compressed` and `short_names` are what the summary says about the files' sources. Throws Malformed when a
/// table that it takes cannot be read; rows that contradict others are told to `container`.
InstallTree read_install_tree(const Database& database, bool compressed, bool short_names,
                              Container& container);

/// The long one of "short|long".
std::string_view long_name(std::string_view both);

/// What would be run, written to the registry and linked, read from the tables.
Installation read_installation(const Database& database, const InstallTree& tree, Facts summary);

}  // namespace operculum::msi
