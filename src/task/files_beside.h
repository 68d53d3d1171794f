#pragma once

#include "task/new_file.h"
#include "task/rebuild_layers.h"

namespace operculum {

/// What a file beside a container is called when the container gets another name: where its name begins with
/// the container's, without the ending, that becomes the new one's.
std::string name_beside(const std::string& file, const std::string& before, const std::string& after);

/// What lies beside a layer as it is planned: its files as they will be, then those of the layer.
Beside beside_planned(const RebuildLayer& layer, const PlannedLayer& plan);

/// A file beside the container that is to be written.
struct FileToWrite {
  FileBeside file;
  NewFile as;
};

/// Those that are to be written for `original`, on disk, to become `into`; in place where that is empty. In
/// another folder or under another name all, for the container needs them; else those that change. Throws
/// Unsupported where one would have to take the place of what the original needs.
std::vector<FileToWrite> files_to_write(const PlannedLayer& plan, const std::string& original,
                                        const std::string& into);

}  // namespace operculum
