#include "format/image/image_blocks.h"

#include <algorithm>

#include "base/error.h"

namespace operculum {

std::vector<bool> blocks_in_use(const Source& disk, std::uint64_t block_size) {
  std::vector<bool> used(static_cast<std::size_t>((disk.size() + block_size - 1) / block_size));
  Bytes buffer(static_cast<std::size_t>(block_size));
  for (std::uint64_t at = 0; at < disk.size();) {
    if (std::uint64_t hole = disk.hole_at(at); hole >= block_size) {
      at = (at + hole) / block_size * block_size;
      continue;
    }
    std::size_t count = disk.read_at(at, buffer);
    if (count == 0) throw CutShort("the disk ends before the size that it states");
    used[static_cast<std::size_t>(at / block_size)] = std::any_of(
        buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(count), [](Byte b) { return b != 0; });
    at += block_size;
  }
  return used;
}

SourcePtr single_disk(const std::vector<NewEntry>& entries, const Writing& writing) {
  if (entries.size() != 1 || entries[0].kind != EntryKind::file)
    throw Unsupported("a folder as a disk image; name a file that holds the disk");
  return random_access(*entries[0].content, writing.spool);
}

void add_block(Assembly& out, const SourcePtr& disk, std::uint64_t index, std::uint64_t block_size) {
  std::uint64_t at = index * block_size, length = std::min(block_size, disk->size() - at);
  out.add(disk, at, length);
  out.add_zeros(block_size - length);
}

}  // namespace operculum
