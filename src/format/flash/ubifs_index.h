#pragma once

#include <array>
#include <map>
#include <set>
#include <vector>

#include "container/container.h"
#include "format/flash/ubifs_records.h"

namespace operculum::ubifs {

/// Where a node lies in the volume, in bytes.
struct NodePlace {
  std::uint64_t at = 0;
  std::uint32_t length = 0;
};

/// A name in a folder.
struct Name {
  std::uint64_t inode = 0;
  std::uint8_t type =
      0;  ///< 0 file, 1 folder, 2 symbolic link, 3 block device, 4 character device, 5 fifo, 6 socket
};

/// The tree of a volume as the file system would see it after mounting: its index, and over that the journal.
struct Index {
  SuperNode super;
  std::map<std::uint32_t, NodePlace> inodes;
  std::map<std::uint32_t, std::map<std::string, Name>> folders;
  std::map<std::uint32_t, std::map<std::uint32_t, NodePlace>> data;  ///< by inode and block of 4,096 bytes
  std::uint64_t replayed = 0;                                        ///< nodes taken from the journal
  std::vector<std::string> faults;
};

/// Whether a superblock lies at the front.
bool begins_volume(ByteView front);

/// Throws Malformed when the tree cannot be entered at all.
Index read_index(const Source& volume);

/// A node with a sound header and checksum. Throws Malformed.
Bytes read_node(const Source& volume, const NodePlace& place);

}  // namespace operculum::ubifs
