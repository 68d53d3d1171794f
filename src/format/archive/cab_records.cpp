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
      auto file = read_structure<FileRecord>(cursor);
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
  auto header = read_structure<Header>(cursor);
  if (!starts_with(header.signature, kMark)) throw Malformed("cabinet header: the mark \"MSCF\" is missing");
  if (header.major != 1)
    throw Unsupported(fmt::format("cabinets of version {}.{}", header.major, header.minor));
  cabinet.stated_size = header.size;
  cabinet.flags = header.flags;
  cabinet.set_id = header.set_id;
  cabinet.number = header.number;
  if ((cabinet.flags & has_reserve) != 0) {
    std::size_t header_reserve = cursor.u16le();
    cabinet.folder_reserve = cursor.u8();
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
  cabinet.folders_at = cursor.position();
  std::size_t folder_size = kFolderRecord + cabinet.folder_reserve;
  Bytes table =
      read_exactly(*cabinet.bytes, cabinet.folders_at, header.folders * folder_size, "cabinet folder table");
  for (std::size_t i = 0; i < header.folders; ++i)
    cabinet.folders.push_back(read_structure<FolderRecord>(table.data() + i * folder_size));
  read_files(cabinet, header.files_at, header.files);
  return cabinet;
}

Signature signature(const Cabinet& cabinet) {
  if (cabinet.reserve.size() != SignatureReserve::size) return {};
  auto reserve = read_structure<SignatureReserve>(cabinet.reserve.data());
  std::uint64_t at = reserve.offset, length = reserve.length;
  bool there = length != 0 && at >= cabinet.stated_size && at + length <= cabinet.bytes->size();
  return there ? Signature{at, length} : Signature{};
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
