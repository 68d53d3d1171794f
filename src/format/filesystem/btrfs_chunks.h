#pragma once

#include <functional>
#include <map>
#include <vector>

#include "base/fields.h"
#include "io/source.h"

namespace operculum::btrfs {

/// The devices of a file system that are there, by their numbers.
using Devices = std::map<std::uint64_t, SourcePtr>;

/// The address space of a file system: stretches of logical addresses, each on one device or several.
class Chunks {
 public:
  explicit Chunks(Devices devices) : devices_(std::move(devices)) {}

  /// Adds what a chunk item says; `logical` is its key's offset. Throws Malformed, Unsupported.
  void add(std::uint64_t logical, ByteView item);
  void clear() { chunks_.clear(); }
  bool empty() const { return chunks_.empty(); }

  /// Reads from copy number `copy` (0 is the first) of what lies at a logical address. Throws Malformed where
  /// no chunk covers it, where the device is not there, and where it is cut short.
  void read(std::uint64_t logical, ByteSpan out, std::size_t copy) const;
  /// Calls `work` with the number of each copy of what lies at an address until one does not throw Malformed;
  /// what the last one throws goes on.
  void any_copy(std::uint64_t logical, const std::function<void(std::size_t copy)>& work) const;
  /// How many copies there are of what lies at an address; 1 for parity, which serves by itself where a
  /// device is missing.
  std::size_t copies(std::uint64_t logical) const;

 private:
  struct Chunk {
    std::uint64_t logical = 0, length = 0;
    std::vector<SourcePtr> copies;  ///< of all of it; null: its device is not there
  };
  const Chunk& at(std::uint64_t logical) const;

  Devices devices_;
  std::vector<Chunk> chunks_;  // by logical address
};

}  // namespace operculum::btrfs
