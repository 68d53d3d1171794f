#pragma once

#include "support/sample_tree.h"

namespace operculum::test {

/// What an NTFS image shows beside plain files; paths are those of the tree.
struct NtfsOptions {
  std::string packed = {};            ///< compressed by LZNT1, in units of 16 clusters
  std::string scattered = {};         ///< each of its clusters lies by itself, last ones first
  std::string listed = {};            ///< its data lies in a record of its own, behind an attribute list
  std::string holed = {};             ///< its second half is a hole; the data has zeros there
  std::string streamed = {};          ///< has a second stream, "note"
  bool short_names = false;           ///< each file has a name of the old kind, too
  bool all_system_files = false;      ///< those that other readers want, of version 2.0: log, capitals, ...
  bool damaged_boot_sector = false;   ///< the backup at the end has to do
  bool damaged_table_record = false;  ///< the mirror of the table has to do
};

/// An NTFS 3.1 image of the tree: clusters and file records of 1,024 bytes, index blocks of 4,096. Symbolic
/// links become reparse points.
Bytes make_ntfs(const SampleTree& tree, const NtfsOptions& options = {}, const std::string& label = "gauge");

}  // namespace operculum::test
