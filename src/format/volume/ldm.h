#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "container/known_record.h"
#include "io/source.h"

namespace operculum::ldm {

// Dynamic disks of Windows (the Logical Disk Manager), after the Linux kernel's documentation
// (Documentation/admin-guide/ldm.rst, block/partitions/ldm.h). A private head in the seventh sector, or at
// the end of a partition of its own on disks with GPT, says where the data and the database lie. The database
// is the same on all disks of a group: disks, volumes, the components that a volume is a mirror of, and the
// partitions that a component is made of. All numbers are big-endian, places and sizes count sectors of 512
// bytes.

constexpr std::uint64_t kSector = 512;

/// What a disk says of itself.
struct Disk {
  std::string id, group_id, group;
  std::uint64_t data_at = 0, data_size = 0;      ///< bytes
  std::uint64_t config_at = 0, config_size = 0;  ///< bytes
};

/// A piece of a disk that belongs to a component.
struct Partition {
  std::string name;
  std::uint64_t component = 0, disk = 0;  ///< ids in the database
  std::uint64_t at = 0;                   ///< bytes, from the disk's data on
  std::uint64_t within = 0, size = 0;     ///< bytes, in the component or its column
  std::uint64_t column = 0;
};

/// How partitions make a volume.
struct Component {
  enum class Kind { striped = 1, joined = 2, parity = 3 };
  std::string name;
  Kind kind = Kind::joined;
  std::uint64_t volume = 0;
  std::uint64_t chunk = 0;  ///< bytes
  std::uint64_t columns = 0;
};

/// A volume as the database names it.
struct Volume {
  std::string name, state, hint;  ///< "ACTIVE"; the drive's letter, where it is told
  std::uint64_t size = 0;         ///< bytes
};

/// What the database of a disk group tells.
struct Database {
  std::string group, group_id;
  std::uint64_t sequence = 0;
  bool clean = true;
  std::map<std::uint64_t, std::pair<std::string, std::string>> disks;  ///< name and GUID, by id
  std::map<std::uint64_t, Volume> volumes;
  std::map<std::uint64_t, Component> components;
  std::vector<Partition> partitions;
  std::vector<std::string> warnings;
};

/// The private head, by `read(at, count)`, which may give fewer bytes; nothing when there is none.
using ReadAt = std::function<Bytes(std::uint64_t at, std::size_t count)>;
std::optional<Disk> find_disk(const ReadAt& read);

/// The database on a disk. Throws Malformed, Unsupported.
Database read_database(const Source& file, const Disk& disk);

/// The private head of a disk, at the first of its two places.
KnownRecord known_head();

}  // namespace operculum::ldm
