#pragma once

#include <bit>
#include <map>
#include <vector>

#include "container/container.h"

namespace operculum::jffs2 {

/// A node that gives a file a name, or takes one away (`inode` 0).
struct Name {
  std::uint32_t folder = 0, version = 0, inode = 0;
  std::uint8_t type = 0;  ///< as in folders of Unix: 4 folder, 8 file, 10 symbolic link
  std::string name;
};

/// A node with a piece of a file's data and what its inode says.
struct Piece {
  std::uint64_t at = 0;  ///< of its data in the image, in bytes
  std::uint32_t version = 0, mode = 0, size = 0;
  std::uint16_t uid = 0, gid = 0;
  std::uint32_t modified = 0, offset = 0, stored = 0, unpacked = 0, data_sum = 0;
  std::uint8_t packing = 0;
};

/// All that a flash image holds, in the order of versions.
struct Nodes {
  std::map<std::pair<std::uint32_t, std::string>, std::vector<Name>> names;  ///< by folder and name
  std::map<std::uint32_t, std::vector<Piece>> pieces;                        ///< by inode
  std::uint64_t count = 0, damaged = 0;
  bool unknown_kinds = false;
};

/// The order of bytes that a node at the beginning of `bytes` says; nothing when none begins there.
std::optional<std::endian> order_of(ByteView bytes);

/// The header's sum: CRC-32 from 0, without the inversions of ISO 3309.
std::uint32_t node_sum(ByteView bytes);

/// Finds all nodes, wherever they begin at multiples of 4 bytes; what damage leaves over is passed.
Nodes find_nodes(const Source& image, std::endian order);

/// The bytes of a piece. Throws Malformed, Unsupported.
Bytes unpack(const Source& image, const Piece& piece);

/// Whether the piece's stored bytes fit their checksum.
bool fits(const Source& image, const Piece& piece);

std::string_view packing_name(std::uint8_t packing);

}  // namespace operculum::jffs2
