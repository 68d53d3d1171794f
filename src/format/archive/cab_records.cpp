#include "format/archive/cab_records.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"

namespace operculum::cab {
namespace {

constexpr std::size_t kLongestName = 257;  // with the zero behind it
constexpr std::size_t kLongestFront = kHeader + 4 + 60000 + 4 * kLongestName;

std::string read_name(Cursor& cursor) {
  std::string name;
  while (Byte b = cursor.u8()) {
    name.push_back(static_cast<char>(b));
    if (name.size() >= kLongestName) cursor.fail("a name that ends", "256 bytes without an end");
  }
  return name;
}

void read_files(Cabinet& cabinet, std::uint32_t at, std::size_t count) {
  Bytes raw = read_up_to(*cabinet.bytes, at, count * (kFileRecord + kLongestName));
  Cursor cursor(raw, "cabinet file record", at);
  cabinet.files.reserve(count);
  try {
    for (std::size_t i = 0; i < count; ++i) {
      FileRecord file;
      file.size = cursor.u32le();
      file.offset = cursor.u32le();
      file.folder = cursor.u16le();
      file.date = cursor.u16le();
      file.time = cursor.u16le();
      file.flags = cursor.u16le();
      file.name = read_name(cursor);
      cabinet.files.push_back(std::move(file));
    }
  } catch (const Malformed& error) {
    cabinet.trouble =
        fmt::format("only {} of {} files could be listed: {}", cabinet.files.size(), count, error.what());
  }
}

}  // namespace

Cabinet read_cabinet(SourcePtr bytes, std::string name) {
  Cabinet cabinet;
  cabinet.name = std::move(name);
  cabinet.bytes = std::move(bytes);
  Bytes front = read_up_to(*cabinet.bytes, 0, kLongestFront);
  Cursor cursor(front, "cabinet header");
  std::string_view mark = cursor.text(4);
  if (mark != kMark) throw Malformed("cabinet header: the mark \"MSCF\" is missing");
  cursor.skip(4);
  cabinet.stated_size = cursor.u32le();
  cursor.skip(4);
  std::uint32_t files_at = cursor.u32le();
  cursor.skip(4);
  unsigned minor = cursor.u8(), major = cursor.u8();
  if (major != 1) throw Unsupported(fmt::format("cabinets of version {}.{}", major, minor));
  std::size_t folders = cursor.u16le(), files = cursor.u16le();
  cabinet.flags = cursor.u16le();
  cabinet.set_id = cursor.u16le();
  cabinet.number = cursor.u16le();
  std::size_t folder_reserve = 0;
  if ((cabinet.flags & has_reserve) != 0) {
    std::size_t header_reserve = cursor.u16le();
    folder_reserve = cursor.u8();
    cabinet.data_reserve = cursor.u8();
    ByteView reserve = cursor.take(header_reserve);
    cabinet.reserve.assign(reserve.begin(), reserve.end());
  }
  if ((cabinet.flags & has_previous) != 0) {
    cabinet.previous = read_name(cursor);
    cabinet.previous_disk = read_name(cursor);
  }
  if ((cabinet.flags & has_next) != 0) {
    cabinet.next = read_name(cursor);
    cabinet.next_disk = read_name(cursor);
  }
  std::size_t folders_at = cursor.position(), folder_size = kFolderRecord + folder_reserve;
  Bytes table = read_exactly(*cabinet.bytes, folders_at, folders * folder_size, "cabinet folder table");
  Cursor records(table, "cabinet folder record", folders_at);
  for (std::size_t i = 0; i < folders; ++i) {
    FolderRecord folder;
    folder.at = records.u32le();
    folder.blocks = records.u16le();
    folder.method = records.u16le();
    records.skip(folder_reserve);
    cabinet.folders.push_back(folder);
  }
  read_files(cabinet, files_at, files);
  return cabinet;
}

std::uint32_t checksum(ByteView data, std::uint32_t seed) {
  const Byte* at = data.data();
  std::size_t left = data.size();
  std::uint64_t both = 0;
  for (; left >= 8; left -= 8, at += 8) both ^= load_little<std::uint64_t>(at);
  seed ^= static_cast<std::uint32_t>(both) ^ static_cast<std::uint32_t>(both >> 32);
  if (left >= 4) {
    seed ^= load_little<std::uint32_t>(at);
    left -= 4;
    at += 4;
  }
  std::uint32_t rest = 0;
  while (left-- > 0) rest = rest << 8 | *at++;
  return seed ^ rest;
}

}  // namespace operculum::cab
