#pragma once

#include "base/facts.h"
#include "codec/codec.h"
#include "container/format.h"

namespace operculum {

/// A named part of a firmware file.
struct FirmwarePart {
  std::string path;
  std::string type = {};           ///< what it is, in words
  std::uint64_t at = 0, size = 0;  ///< as it lies in the file, in bytes
  std::string comment = {};        ///< what the headers say of it: addresses, versions
  EntryKind kind = EntryKind::file;
  std::string_view method = "stored";
  std::uint64_t unpacked = Entry::kUnknownSize;  ///< in bytes, where `open` gives others than lie there
  std::function<ContentPtr()> open =
      {};                  ///< empty: the bytes as they lie; else the size above may be unknown
  Expected expected = {};  ///< checksum that is stored of the data; its size is not looked at
  Timestamp modified = {};
  std::vector<Footprint> scattered = {};  ///< where it lies, when that is not one range
  bool encrypted = false;
  bool checked = false;  ///< what `open` gives is compared with checksums while it is read
};

/// What was read of a firmware file.
struct Firmware {
  std::vector<FirmwarePart> parts;
  Facts facts;
  std::vector<Finding> findings;
  std::optional<std::uint64_t> filled_from = {};  ///< where the filling begins that the file ends with
  std::string text = {};                          ///< the whole as a person reads it; empty: the facts are
  std::vector<MemoryWrite> writes = {};           ///< of an update: what would go where

  void note(std::string what) { findings.push_back({Finding::Level::note, std::move(what)}); }
  void warn(std::string what) { findings.push_back({Finding::Level::warning, std::move(what)}); }
  void fault(std::string what) { findings.push_back({Finding::Level::fault, std::move(what)}); }
};

/// A container of the parts, in their order. A part that lies beyond the end of `bytes` is told as a fault,
/// and ends where they end; a second part of the same path gets a number.
ContainerPtr make_firmware(SourcePtr bytes, Firmware firmware);

/// What follows `end` in a file, as a part named "behind", where it is more than filling (0x00 or 0xff).
void add_what_is_behind(const Source& bytes, std::uint64_t end, Firmware& out);

/// A name from a fixed-size field: up to its first zero byte, without blanks around.
std::string field_text(ByteView field);

/// A name for a part made of what a header says: lower-case letters, digits, '-', '_' and '.' stay,
/// everything else is '-'; `otherwise` where nothing is left.
std::string part_name(std::string_view said, std::string_view otherwise);

/// A name as one part of a path: slashes would be folders of their own.
std::string as_path_part(std::string name);

/// A row of a table of numbers and what they stand for.
struct NamedNumber {
  std::uint64_t number;
  std::string_view name;
};
/// The name of a number, or "`what` 77".
std::string name_in(std::span<const NamedNumber> table, std::uint64_t number, std::string_view what);

/// "0x80008000".
std::string hex_number(std::uint64_t value);

/// Adds a range; one that follows the last becomes part of it.
void add_range(std::vector<Footprint>& ranges, Footprint next);

}  // namespace operculum
