#pragma once

#include <optional>
#include <string>
#include <vector>

#include "io/source.h"

namespace operculum::pe {

/// A part of the program, and where it goes.
struct Section {
  std::string name;
  std::uint32_t address = 0, virtual_size = 0;  ///< in memory
  std::uint64_t at = 0, size = 0;               ///< in the file; clipped to it
};

/// A range that the optional header names.
struct Directory {
  std::uint32_t address = 0, size = 0;
};

/// What some of them name.
enum DirectoryIndex : std::size_t { resources_directory = 2, certificates_directory = 4 };

/// The headers of a Windows executable (the PE format specification, revision 11).
struct Image {
  bool wide = false;  ///< PE32+
  std::uint16_t machine = 0, characteristics = 0, subsystem = 0;
  std::vector<Section> sections;
  std::vector<Directory> directories;
  std::uint64_t end = 0;         ///< of the last section in the file
  std::uint64_t stated_end = 0;  ///< the same as the headers say it, which may lie behind the file's end
  std::uint64_t signature_at = 0, signature_size = 0;  ///< certificates, usually behind the sections

  bool is_library() const { return (characteristics & 0x2000) != 0; }
  /// Where an address lies in the file, and how many bytes are there from it on.
  std::optional<std::pair<std::uint64_t, std::uint64_t>> locate(std::uint32_t address) const;
};

/// Where the PE headers are said to begin; nothing when these 64 bytes are not the front of a DOS program.
std::optional<std::uint64_t> headers_at(ByteView head);

/// Nothing when the bytes are no such executable at all. Throws Malformed when its tables are cut short.
std::optional<Image> read_image(const Source& bytes);

/// "x86", "x86-64", "ARM64", ...
std::string machine_name(std::uint16_t machine);

}  // namespace operculum::pe
