#pragma once

#include "base/structure.h"

/// What resources of a Windows executable hold, with the names of the Windows SDK (BITMAPINFOHEADER,
/// "Resource file formats", VS_VERSIONINFO), and the icon files that are made of them.
namespace operculum::pe {

/// A device-independent bitmap's header of the oldest kind (BITMAPCOREHEADER).
struct BitmapCoreHeader {
  std::uint32_t bcSize = 0;
  std::uint16_t bcWidth = 0, bcHeight = 0, bcPlanes = 0, bcBitCount = 0;

  static constexpr auto layout = little_endian(
      field("bcSize", &BitmapCoreHeader::bcSize), field("bcWidth", &BitmapCoreHeader::bcWidth),
      field("bcHeight", &BitmapCoreHeader::bcHeight), field("bcPlanes", &BitmapCoreHeader::bcPlanes),
      field("bcBitCount", &BitmapCoreHeader::bcBitCount));
};

/// The usual kind (BITMAPINFOHEADER); later kinds go on behind it.
struct BitmapInfoHeader {
  std::uint32_t biSize = 0, biWidth = 0, biHeight = 0;
  std::uint16_t biPlanes = 0, biBitCount = 0;
  std::uint32_t biCompression = 0, biSizeImage = 0, biXPelsPerMeter = 0, biYPelsPerMeter = 0, biClrUsed = 0;

  static constexpr auto layout = little_endian(
      field("biSize", &BitmapInfoHeader::biSize), field("biWidth", &BitmapInfoHeader::biWidth),
      field("biHeight", &BitmapInfoHeader::biHeight), field("biPlanes", &BitmapInfoHeader::biPlanes),
      field("biBitCount", &BitmapInfoHeader::biBitCount),
      field("biCompression", &BitmapInfoHeader::biCompression),
      field("biSizeImage", &BitmapInfoHeader::biSizeImage),
      field("biXPelsPerMeter", &BitmapInfoHeader::biXPelsPerMeter),
      field("biYPelsPerMeter", &BitmapInfoHeader::biYPelsPerMeter),
      field("biClrUsed", &BitmapInfoHeader::biClrUsed));
};
constexpr std::uint32_t kBitFields = 3;  // biCompression: three masks stand between header and pixels

/// The front of a bitmap file (BITMAPFILEHEADER), which the resource has not.
struct BitmapFileHeader {
  std::uint16_t bfType = 0x4D42;  // "BM"
  std::uint32_t bfSize = 0, bfReserved = 0, bfOffBits = 0;

  static constexpr auto layout = little_endian(
      field("bfType", &BitmapFileHeader::bfType), field("bfSize", &BitmapFileHeader::bfSize),
      field("bfReserved", &BitmapFileHeader::bfReserved), field("bfOffBits", &BitmapFileHeader::bfOffBits));
};

/// The front of a group of icons or cursors (NEWHEADER), and of a file of them.
struct GroupHead {
  std::uint16_t Reserved = 0, ResType = 0, ResCount = 0;

  static constexpr auto layout =
      little_endian(field("Reserved", &GroupHead::Reserved), field("ResType", &GroupHead::ResType),
                    field("ResCount", &GroupHead::ResCount));
};

/// An icon of a group (RESDIR with ICONRESDIR).
struct GroupIcon {
  std::uint8_t Width = 0, Height = 0, ColorCount = 0, reserved = 0;
  std::uint16_t Planes = 0, BitCount = 0;
  std::uint32_t BytesInRes = 0;
  std::uint16_t IconCursorId = 0;

  static constexpr auto layout = little_endian(
      field("Width", &GroupIcon::Width), field("Height", &GroupIcon::Height),
      field("ColorCount", &GroupIcon::ColorCount), field("reserved", &GroupIcon::reserved),
      field("Planes", &GroupIcon::Planes), field("BitCount", &GroupIcon::BitCount),
      field("BytesInRes", &GroupIcon::BytesInRes), field("IconCursorId", &GroupIcon::IconCursorId));
};

/// A cursor of a group (RESDIR with CURSORDIR): as long as an icon, its height counts both masks.
struct GroupCursor {
  std::uint16_t Width = 0, Height = 0, Planes = 0, BitCount = 0;
  std::uint32_t BytesInRes = 0;
  std::uint16_t IconCursorId = 0;

  static constexpr auto layout = little_endian(
      field("Width", &GroupCursor::Width), field("Height", &GroupCursor::Height),
      field("Planes", &GroupCursor::Planes), field("BitCount", &GroupCursor::BitCount),
      field("BytesInRes", &GroupCursor::BytesInRes), field("IconCursorId", &GroupCursor::IconCursorId));
};

/// The hot spot in front of a cursor's image (LOCALHEADER).
struct HotSpot {
  std::uint16_t xHotSpot = 0, yHotSpot = 0;

  static constexpr auto layout =
      little_endian(field("xHotSpot", &HotSpot::xHotSpot), field("yHotSpot", &HotSpot::yHotSpot));
};

/// An image in a file of icons or cursors (ICONDIRENTRY); cursors have their hot spot for planes and bits.
struct IconFileRow {
  std::uint8_t bWidth = 0, bHeight = 0, bColorCount = 0, bReserved = 0;
  std::uint16_t wPlanes = 0, wBitCount = 0;
  std::uint32_t dwBytesInRes = 0, dwImageOffset = 0;

  static constexpr auto layout = little_endian(
      field("bWidth", &IconFileRow::bWidth), field("bHeight", &IconFileRow::bHeight),
      field("bColorCount", &IconFileRow::bColorCount), field("bReserved", &IconFileRow::bReserved),
      field("wPlanes", &IconFileRow::wPlanes), field("wBitCount", &IconFileRow::wBitCount),
      field("dwBytesInRes", &IconFileRow::dwBytesInRes), field("dwImageOffset", &IconFileRow::dwImageOffset));
};

/// What each node of version information begins with (VS_VERSIONINFO, StringFileInfo, ...); its key, UTF-16
/// and ended by a zero, follows.
struct VersionHead {
  std::uint16_t wLength = 0, wValueLength = 0, wType = 0;

  static constexpr auto layout =
      little_endian(field("wLength", &VersionHead::wLength),
                    field("wValueLength", &VersionHead::wValueLength), field("wType", &VersionHead::wType));
};

/// The root node's value (VS_FIXEDFILEINFO), as far as it is read.
struct FixedFileInfo {
  std::uint32_t dwSignature = 0, dwStrucVersion = 0, dwFileVersionMS = 0, dwFileVersionLS = 0;
  std::uint32_t dwProductVersionMS = 0, dwProductVersionLS = 0;

  static constexpr auto layout =
      little_endian(field("dwSignature", &FixedFileInfo::dwSignature),
                    field("dwStrucVersion", &FixedFileInfo::dwStrucVersion),
                    field("dwFileVersionMS", &FixedFileInfo::dwFileVersionMS),
                    field("dwFileVersionLS", &FixedFileInfo::dwFileVersionLS),
                    field("dwProductVersionMS", &FixedFileInfo::dwProductVersionMS),
                    field("dwProductVersionLS", &FixedFileInfo::dwProductVersionLS));
};

}  // namespace operculum::pe
