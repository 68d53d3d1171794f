#pragma once

#include "base/structure.h"

/// The records of FAT volumes, with the names of the FAT32 file system specification 1.03:
///
///   boot sector and other reserved ones | allocation tables, the same several times | root folder (FAT12 and
///   FAT16) | clusters, numbered from 2 on
///
/// A table has a number for each cluster: which one comes next in its file. A folder is rows of 32 bytes; a
/// long name stands in rows in front of the one that it belongs to, last part first.
namespace operculum::fat {

constexpr std::size_t kBootSize = 512, kRowSize = 32;
constexpr std::uint64_t kMostRows = 65536;  // of a folder

/// What every boot sector begins with.
struct BootRecord {
  std::array<Byte, 3> jump{};
  std::array<Byte, 8> maker{};
  std::uint16_t sector = 0;
  std::uint8_t per_cluster = 0;
  std::uint16_t reserved = 0;
  std::uint8_t tables = 0;
  std::uint16_t root_rows = 0, sectors16 = 0;
  std::uint8_t media = 0;
  std::uint16_t table16 = 0, per_track = 0, heads = 0;
  std::uint32_t hidden = 0, sectors32 = 0;

  static constexpr auto layout = little_endian(
      field("BS_jmpBoot", &BootRecord::jump), field("BS_OEMName", &BootRecord::maker),
      field("BPB_BytsPerSec", &BootRecord::sector), field("BPB_SecPerClus", &BootRecord::per_cluster),
      field("BPB_RsvdSecCnt", &BootRecord::reserved), field("BPB_NumFATs", &BootRecord::tables),
      field("BPB_RootEntCnt", &BootRecord::root_rows), field("BPB_TotSec16", &BootRecord::sectors16),
      field("BPB_Media", &BootRecord::media), field("BPB_FATSz16", &BootRecord::table16),
      field("BPB_SecPerTrk", &BootRecord::per_track), field("BPB_NumHeads", &BootRecord::heads),
      field("BPB_HiddSec", &BootRecord::hidden), field("BPB_TotSec32", &BootRecord::sectors32));
};
static_assert(size_on_disk<BootRecord> == 36);

/// Behind it on FAT32 alone.
struct Boot32 {
  std::uint32_t table32 = 0;
  std::uint16_t flags = 0, version = 0;
  std::uint32_t root_cluster = 0;
  std::uint16_t info = 0, backup = 0;
  std::array<Byte, 12> reserved{};

  static constexpr auto layout =
      little_endian(field("BPB_FATSz32", &Boot32::table32), field("BPB_ExtFlags", &Boot32::flags),
                    field("BPB_FSVer", &Boot32::version), field("BPB_RootClus", &Boot32::root_cluster),
                    field("BPB_FSInfo", &Boot32::info), field("BPB_BkBootSec", &Boot32::backup),
                    field("BPB_Reserved", &Boot32::reserved));
};

/// Behind those.
struct BootTail {
  std::uint8_t drive = 0x80, reserved = 0, mark = 0x29;
  std::uint32_t serial = 0;
  std::array<Byte, 11> label{};
  std::array<Byte, 8> type{};

  static constexpr auto layout =
      little_endian(field("BS_DrvNum", &BootTail::drive), field("BS_Reserved1", &BootTail::reserved),
                    field("BS_BootSig", &BootTail::mark), field("BS_VolID", &BootTail::serial),
                    field("BS_VolLab", &BootTail::label), field("BS_FilSysType", &BootTail::type));
};

/// The information sector of FAT32.
struct InfoRecord {
  static constexpr std::uint32_t kLead = 0x41615252, kSecond = 0x61417272;
  std::uint32_t lead = kLead, second = kSecond, free = 0, next = 0, trail = 0xAA550000;
  bool is_whole() const { return lead == kLead && second == kSecond; }

  static constexpr auto layout = little_endian(
      field("FSI_LeadSig", &InfoRecord::lead), from_byte<484>(), field("FSI_StrucSig", &InfoRecord::second),
      field("FSI_Free_Count", &InfoRecord::free), field("FSI_Nxt_Free", &InfoRecord::next), from_byte<508>(),
      field("FSI_TrailSig", &InfoRecord::trail));
};
static_assert(size_on_disk<InfoRecord> == 512);

/// Bits of DIR_Attr.
enum Attribute : std::uint8_t {
  read_only = 0x01,
  volume_label = 0x08,
  folder_row = 0x10,
  archive = 0x20,
  long_name = 0x0F,
  long_name_mask = 0x3F,
};
constexpr Byte kDeleted = 0xE5, kEnd = 0;  // a row's first byte

/// A row of a folder with a short name.
struct Row {
  std::array<Byte, 11> name{};
  std::uint8_t attributes = 0, cases = 0, created_tenths = 0;
  std::uint16_t created_time = 0, created_date = 0, accessed_date = 0, cluster_high = 0, time = 0, date = 0,
                cluster_low = 0;
  std::uint32_t size = 0;

  static constexpr auto layout =
      little_endian(field("DIR_Name", &Row::name), field("DIR_Attr", &Row::attributes),
                    field("DIR_NTRes", &Row::cases), field("DIR_CrtTimeTenth", &Row::created_tenths),
                    field("DIR_CrtTime", &Row::created_time), field("DIR_CrtDate", &Row::created_date),
                    field("DIR_LstAccDate", &Row::accessed_date), field("DIR_FstClusHI", &Row::cluster_high),
                    field("DIR_WrtTime", &Row::time), field("DIR_WrtDate", &Row::date),
                    field("DIR_FstClusLO", &Row::cluster_low), field("DIR_FileSize", &Row::size));

  std::uint32_t cluster(unsigned bits) const {
    return cluster_low | (bits == 32 ? std::uint32_t{cluster_high} << 16 : 0);
  }
  void set_cluster(std::uint32_t cluster) {
    cluster_high = static_cast<std::uint16_t>(cluster >> 16);
    cluster_low = static_cast<std::uint16_t>(cluster);
  }
};
static_assert(size_on_disk<Row> == kRowSize);

/// A part of a long name: 13 units of UTF-16.
struct LongRow {
  static constexpr std::uint8_t kLast = 0x40;  // in `order`
  std::uint8_t order = 0;
  std::array<Byte, 10> first{};
  std::uint8_t attributes = long_name, type = 0, sum = 0;
  std::array<Byte, 12> second{};
  std::uint16_t cluster = 0;
  std::array<Byte, 4> third{};

  static constexpr auto layout =
      little_endian(field("LDIR_Ord", &LongRow::order), field("LDIR_Name1", &LongRow::first),
                    field("LDIR_Attr", &LongRow::attributes), field("LDIR_Type", &LongRow::type),
                    field("LDIR_Chksum", &LongRow::sum), field("LDIR_Name2", &LongRow::second),
                    field("LDIR_FstClusLO", &LongRow::cluster), field("LDIR_Name3", &LongRow::third));
};
static_assert(size_on_disk<LongRow> == kRowSize);

}  // namespace operculum::fat
