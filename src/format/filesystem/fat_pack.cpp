// A FAT volume from scratch: just large enough, with some room to spare; FAT32 where there are many clusters.
#include <algorithm>

#include "base/numbers.h"
#include "base/text.h"
#include "format/filesystem/fat_folder.h"
#include "format/filesystem/fat_rewrite.h"
#include "format/filesystem/formats.h"
#include "io/patches.h"

namespace operculum {
namespace {

using namespace fat;

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kSpare = 8;                       // an eighth of what is needed is left free
constexpr std::uint64_t kMost12 = 4084, kMost16 = 65524;  // clusters
constexpr std::uint32_t kSerial = 0x20260301;             // no clock: the same input gives the same bytes
constexpr std::uint16_t kRootRows = 512, kReserved32 = 32, kInfoSector = 1, kBackupSector = 6;
constexpr std::uint8_t kMedia = 0xF8;

/// What a volume is made like.
struct Shape {
  unsigned bits = 12;
  std::uint64_t per_cluster = 1, clusters = 0, table = 0;  // sectors; sectors of a table

  std::uint64_t reserved() const { return bits == 32 ? kReserved32 : 1; }
  std::uint64_t root_rows() const { return bits == 32 ? 0 : kRootRows; }
  std::uint64_t heap() const { return reserved() + 2 * table + root_rows() * kRowSize / kSector; }
  std::uint64_t sectors() const { return heap() + clusters * per_cluster; }
};

/// Rows that a folder has at most: a short name and a long one each, and two for itself.
std::uint64_t rows_of(const TreeNode& folder) {
  constexpr std::uint64_t kMostAName = 1 + (255 + 12) / 13;
  std::uint64_t rows = 2;
  for (const auto& [name, child] : folder.children)
    rows += std::min<std::uint64_t>(kMostAName, 2 + name.size() / 13);
  return rows;
}

/// Clusters that a tree takes.
std::uint64_t clusters_needed(TreeNode& root, std::uint64_t cluster) {
  auto of = [&](std::uint64_t bytes) { return (bytes + cluster - 1) / cluster; };
  auto of_folder = [&](const TreeNode& folder) { return of(rows_of(folder) * kRowSize); };
  std::uint64_t count = of_folder(root);
  each_node(root, "", [&](TreeNode& node, const std::string&) {
    count += node.kind == EntryKind::folder ? of_folder(node) : of(node.size);
  });
  return count;
}

Shape shape_for(TreeNode& root) {
  Shape shape;
  bool root_is_large = rows_of(root) > kRootRows;
  for (shape.per_cluster = 1; shape.per_cluster <= 128; shape.per_cluster *= 2) {
    std::uint64_t needed = clusters_needed(root, shape.per_cluster * kSector);
    shape.clusters = needed + needed / kSpare + 16;
    bool wide = root_is_large || shape.clusters > kMost16;
    bool larger_clusters_help =
        wide ? shape.per_cluster < 8 : shape.clusters > kMost12 && shape.per_cluster < 4;
    if (!larger_clusters_help) break;
  }
  bool wide = root_is_large || shape.clusters > kMost16;
  shape.bits = wide ? 32 : shape.clusters > kMost12 ? 16 : 12;
  if (wide) shape.clusters = std::max(shape.clusters, kMost16 + 1);
  if (shape.bits == 16) shape.clusters = std::max(shape.clusters, kMost12 + 1);
  shape.table = ((shape.clusters + 2) * shape.bits / 8 + kSector) / kSector;
  return shape;
}

template <std::size_t Count>
void put_text(std::array<Byte, Count>& field, std::string_view text) {
  field.fill(' ');
  std::copy(text.begin(), text.end(), field.begin());
}

Bytes boot_sector(const Shape& shape) {
  BootRecord record;
  record.jump = {0xEB, static_cast<Byte>(shape.bits == 32 ? 0x58 : 0x3C), 0x90};
  put_text(record.maker, "OPERCULM");
  record.sector = kSector;
  record.per_cluster = static_cast<std::uint8_t>(shape.per_cluster);
  record.reserved = static_cast<std::uint16_t>(shape.reserved());
  record.tables = 2;
  record.root_rows = static_cast<std::uint16_t>(shape.root_rows());
  record.media = kMedia;
  record.per_track = 63;
  record.heads = 255;
  bool few = shape.sectors() <= UINT16_MAX && shape.bits != 32;
  if (few) {
    record.sectors16 = static_cast<std::uint16_t>(shape.sectors());
  } else {
    record.sectors32 = static_cast<std::uint32_t>(shape.sectors());
  }
  record.table16 = static_cast<std::uint16_t>(shape.bits == 32 ? 0 : shape.table);
  Bytes out;
  append_structure(out, record);
  if (shape.bits == 32) {
    append_structure(out, Boot32{.table32 = static_cast<std::uint32_t>(shape.table),
                                 .root_cluster = 2,
                                 .info = kInfoSector,
                                 .backup = kBackupSector});
  }
  BootTail tail;
  tail.serial = kSerial;
  put_text(tail.label, "NO NAME");
  put_text(tail.type, shape.bits == 32 ? "FAT32" : shape.bits == 16 ? "FAT16" : "FAT12");
  append_structure(out, tail);
  out.resize(kSector);
  out[510] = 0x55;
  out[511] = 0xAA;
  return out;
}

/// Bytes over zeros, as a source of which most takes no room.
SourcePtr empty_volume(const Shape& shape) {
  Bytes boot = boot_sector(shape), first;
  auto number = [&](std::uint32_t value) { append_number(first, shape.bits / 8, value); };
  if (shape.bits == 12) {
    first = {kMedia, 0xFF, 0xFF};
  } else {
    number(0x0FFFFF00 | kMedia);
    number(0x0FFFFFFF);
    if (shape.bits == 32) number(0x0FFFFFFF);  // the root folder's one cluster
  }
  Assembly none;
  none.add_zeros(shape.sectors() * kSector);
  Patches patches(none.source());
  patches.put(0, boot);
  if (shape.bits == 32) {
    Bytes info;
    append_structure(info, InfoRecord{.free = static_cast<std::uint32_t>(shape.clusters - 1), .next = 2});
    for (std::uint64_t front : {std::uint64_t{0}, std::uint64_t{kBackupSector}}) {
      patches.put(front * kSector, boot);
      patches.put((front + kInfoSector) * kSector, info);
    }
  }
  for (std::uint64_t i = 0; i < 2; ++i) patches.put((shape.reserved() + i * shape.table) * kSector, first);
  return patches.assembly(shape.sectors() * kSector).source();
}

}  // namespace

Assembly pack_fat(const std::vector<NewEntry>& entries, const Writing& writing) {
  if (!writing.choice.method.empty() && writing.choice.method != "stored")
    throw Unsupported("the method \"" + escape(writing.choice.method) +
                      "\" on a FAT volume, which packs nothing");
  TreeNode tree = new_tree(entries);
  OldVolume volume;
  volume.source = empty_volume(shape_for(tree));
  volume.boot = read_boot(read_exactly(*volume.source, 0, kBootSize, "FAT boot sector"));
  OldEntries none{{}, [](std::size_t) { return 0U; }};
  return rewrite(volume, none, {}, tree, writing.spool);
}

}  // namespace operculum
