#pragma once

#include <array>
#include <map>
#include <set>
#include <vector>

#include "container/container.h"

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

/// What the superblock says.
struct Super {
  std::uint32_t flags = 0, min_io_size = 0, leb_size = 0, leb_count = 0, log_lebs = 0, format_version = 0;
  std::uint16_t default_packing = 0;
  std::array<Byte, 16> uuid{};
  bool encrypted() const { return (flags & 0x10) != 0; }
  bool authenticated() const { return (flags & 0x20) != 0; }
};

/// The tree of a volume as the file system would see it after mounting: its index, and over that the journal.
struct Index {
  Super super;
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
