#pragma once

#include <array>

#include "base/structure.h"

/// What a Windows executable holds on disk, with the names of the PE format specification, revision 11: a DOS
/// program whose header leads to the PE headers (file header, optional header, data directories), the section
/// table behind them, and the sections; resources are a tree of tables within one section.
namespace operculum::pe {

/// The MS-DOS header; only what leads on is read.
struct DosHeader {
  std::uint16_t e_magic = 0;
  std::uint32_t e_lfanew = 0;  ///< where the PE headers begin

  static constexpr auto layout = little_endian(field("e_magic", &DosHeader::e_magic), from_byte<60>(),
                                               field("e_lfanew", &DosHeader::e_lfanew));
};

/// The signature and the COFF file header behind it (sections 3.2 and 3.3).
struct FileHeader {
  std::array<Byte, 4> Signature{};
  std::uint16_t Machine = 0, NumberOfSections = 0;
  std::uint32_t TimeDateStamp = 0, PointerToSymbolTable = 0, NumberOfSymbols = 0;
  std::uint16_t SizeOfOptionalHeader = 0, Characteristics = 0;

  static constexpr auto layout =
      little_endian(field("Signature", &FileHeader::Signature), field("Machine", &FileHeader::Machine),
                    field("NumberOfSections", &FileHeader::NumberOfSections),
                    field("TimeDateStamp", &FileHeader::TimeDateStamp),
                    field("PointerToSymbolTable", &FileHeader::PointerToSymbolTable),
                    field("NumberOfSymbols", &FileHeader::NumberOfSymbols),
                    field("SizeOfOptionalHeader", &FileHeader::SizeOfOptionalHeader),
                    field("Characteristics", &FileHeader::Characteristics));
};

/// What PE32 and PE32+ have at the same places of the optional header (section 3.4).
struct OptionalHeader {
  std::uint16_t Magic = 0, Subsystem = 0;

  static constexpr auto layout = little_endian(field("Magic", &OptionalHeader::Magic), from_byte<68>(),
                                               field("Subsystem", &OptionalHeader::Subsystem));
};
constexpr std::uint16_t kNarrowMagic = 0x10B, kWideMagic = 0x20B;

/// A data directory (section 3.4.3). Their number (NumberOfRvaAndSizes) stands right in front of the first.
struct DirectoryRecord {
  std::uint32_t VirtualAddress = 0, Size = 0;

  static constexpr auto layout = little_endian(field("VirtualAddress", &DirectoryRecord::VirtualAddress),
                                               field("Size", &DirectoryRecord::Size));
};
constexpr std::size_t kNarrowDirectoriesAt = 96, kWideDirectoriesAt = 112;  // in the optional header

/// A row of the section table (section 4).
struct SectionHeader {
  std::array<Byte, 8> Name{};
  std::uint32_t VirtualSize = 0, VirtualAddress = 0, SizeOfRawData = 0, PointerToRawData = 0;
  std::uint32_t PointerToRelocations = 0, PointerToLinenumbers = 0;
  std::uint16_t NumberOfRelocations = 0, NumberOfLinenumbers = 0;
  std::uint32_t Characteristics = 0;

  static constexpr auto layout =
      little_endian(field("Name", &SectionHeader::Name), field("VirtualSize", &SectionHeader::VirtualSize),
                    field("VirtualAddress", &SectionHeader::VirtualAddress),
                    field("SizeOfRawData", &SectionHeader::SizeOfRawData),
                    field("PointerToRawData", &SectionHeader::PointerToRawData),
                    field("PointerToRelocations", &SectionHeader::PointerToRelocations),
                    field("PointerToLinenumbers", &SectionHeader::PointerToLinenumbers),
                    field("NumberOfRelocations", &SectionHeader::NumberOfRelocations),
                    field("NumberOfLinenumbers", &SectionHeader::NumberOfLinenumbers),
                    field("Characteristics", &SectionHeader::Characteristics));
};

/// A table of the resource tree (section 6.9.1); rows with names come first, then rows with numbers.
struct ResourceTable {
  std::uint32_t Characteristics = 0, TimeDateStamp = 0;
  std::uint16_t MajorVersion = 0, MinorVersion = 0, NumberOfNameEntries = 0, NumberOfIdEntries = 0;

  static constexpr auto layout =
      little_endian(field("Characteristics", &ResourceTable::Characteristics),
                    field("TimeDateStamp", &ResourceTable::TimeDateStamp),
                    field("MajorVersion", &ResourceTable::MajorVersion),
                    field("MinorVersion", &ResourceTable::MinorVersion),
                    field("NumberOfNameEntries", &ResourceTable::NumberOfNameEntries),
                    field("NumberOfIdEntries", &ResourceTable::NumberOfIdEntries));
};

/// A row of it (section 6.9.2): a number, or with the high bit the place of a name; the place of a leaf, or
/// with the high bit of the next table. Places count from the tree's begin.
struct ResourceRow {
  std::uint32_t Name = 0, Offset = 0;

  static constexpr auto layout =
      little_endian(field("Name", &ResourceRow::Name), field("Offset", &ResourceRow::Offset));
};

/// A leaf (section 6.9.4): where the resource lies, as an address in memory.
struct ResourceLeaf {
  std::uint32_t DataRVA = 0, Size = 0, Codepage = 0, Reserved = 0;

  static constexpr auto layout =
      little_endian(field("Data RVA", &ResourceLeaf::DataRVA), field("Size", &ResourceLeaf::Size),
                    field("Codepage", &ResourceLeaf::Codepage), field("Reserved", &ResourceLeaf::Reserved));
};

}  // namespace operculum::pe
