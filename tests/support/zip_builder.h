#pragma once

#include <optional>
#include <string>

#include "support/byte_writer.h"

namespace operculum::test {

/// One entry to be written, with the ways in which it may differ from a plain one.
struct ZipItem {
  std::string name;
  Bytes data;
  std::string codec = "deflate";  ///< of the codec table
  std::uint16_t method = 8;
  std::string password;  ///< encrypts; empty: not
  int aes_strength = 0;  ///< 1 to 3 with a password: AES; 0: traditional
  int aes_version = 2;
  bool descriptor = false;  ///< sizes and CRC behind the data
  bool utf8 = false;
  std::uint16_t made_by = 3 << 8;     ///< Unix
  std::uint32_t unix_mode = 0100644;  ///< with type bits; 0: none
  Bytes extra;                        ///< further extra fields, in both headers
  std::uint16_t more_flags = 0;       ///< such as those of imploded data
  std::string comment;
  std::uint16_t date = (46 << 9) | (3 << 5) | 1, time = (14 << 11) | (5 << 5) | 4;  // 2026-03-01 14:05:08
  std::optional<Bytes> stored;       ///< raw stored bytes instead of encoding `data`
  std::optional<std::uint32_t> crc;  ///< a CRC-32 that need not be right
  std::string local_name;            ///< when it is to differ from the central one
};

/// Writes ZIP files, wholesome and hostile.
class ZipBuilder {
 public:
  ZipBuilder& add(ZipItem item);
  ZipBuilder& add(const std::string& name, std::string_view text);
  ZipBuilder& stored(const std::string& name, Bytes data);
  ZipBuilder& folder(const std::string& name);
  ZipBuilder& link(const std::string& name, const std::string& target);
  ZipBuilder& comment(std::string text);
  ZipBuilder& zip64();             ///< use the 64-bit fields throughout
  ZipBuilder& prefix(Bytes stub);  ///< bytes in front that the offsets do not count

  Bytes build() const;
  Bytes build_without_directory() const;

 private:
  struct Stored {
    Bytes bytes;
    std::uint32_t crc;
    std::uint16_t method, flags;
    Bytes extra;
  };
  static Stored pack(const ZipItem& item);
  void write_entries(ByteWriter& out, std::vector<std::uint64_t>& offsets) const;

  std::vector<ZipItem> items_;
  std::string comment_;
  bool zip64_ = false;
  Bytes prefix_;
};

}  // namespace operculum::test
