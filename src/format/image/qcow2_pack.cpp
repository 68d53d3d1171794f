// QCOW2 version 3 from a raw disk: header, reference counts, the tables of two levels, and the clusters that
// hold anything.
#include <algorithm>

#include "format/image/formats.h"
#include "format/image/image_blocks.h"
#include "format/image/qcow2_records.h"

namespace operculum {
namespace {

using namespace qcow2;

constexpr std::uint32_t kClusterBits = 16;
constexpr std::uint64_t kCluster = 1 << kClusterBits;
constexpr std::uint64_t kEntriesATable = kCluster / 8;  // of 64 bits
constexpr std::uint64_t kCountsABlock = kCluster / 2;   // of 16 bits: refcount_order 4
std::uint64_t divided_up(std::uint64_t a, std::uint64_t b) {
  return (a + b - 1) / b;
}

/// Where the parts lie, in clusters.
struct Parts {
  std::uint64_t count_table = 0, count_blocks = 0, l1 = 0, l2 = 0, data = 0;

  std::uint64_t count_table_at() const { return 1; }
  std::uint64_t count_blocks_at() const { return count_table_at() + count_table; }
  std::uint64_t l1_at() const { return count_blocks_at() + count_blocks; }
  std::uint64_t l2_at() const { return l1_at() + l1; }
  std::uint64_t data_at() const { return l2_at() + l2; }
  std::uint64_t total() const { return data_at() + data; }

  /// Reference counts are counted, too.
  void settle() {
    for (std::uint64_t before = 0; before != total();) {
      before = total();
      count_blocks = divided_up(total(), kCountsABlock);
      count_table = divided_up(count_blocks, kEntriesATable);
    }
  }
};

void put64(Bytes& out, std::uint64_t value) {
  append_number(out, 8, value, std::endian::big);
}

void add_clusters(Assembly& out, Bytes bytes, std::uint64_t clusters) {
  bytes.resize(static_cast<std::size_t>(clusters * kCluster));
  out.add(std::move(bytes));
}

}  // namespace

Assembly pack_qcow2(const std::vector<NewEntry>& entries, const Writing& writing) {
  SourcePtr disk = single_disk(entries, writing);
  std::vector<bool> used = blocks_in_use(*disk, kCluster);
  std::uint64_t tables = divided_up(used.size(), kEntriesATable);
  auto table_in_use = [&](std::uint64_t table) {
    auto begin = used.begin() + static_cast<std::ptrdiff_t>(table * kEntriesATable);
    auto end = used.begin() + static_cast<std::ptrdiff_t>(
                                  std::min<std::uint64_t>((table + 1) * kEntriesATable, used.size()));
    return std::find(begin, end, true) != end;
  };
  Parts parts;
  parts.l1 = std::max<std::uint64_t>(divided_up(tables, kEntriesATable), 1);
  parts.data = static_cast<std::uint64_t>(std::count(used.begin(), used.end(), true));
  for (std::uint64_t i = 0; i < tables; ++i) parts.l2 += table_in_use(i) ? 1 : 0;
  parts.settle();

  HeaderRecord header{.cluster_bits = kClusterBits};
  header.size = disk->size();
  header.l1_size = static_cast<std::uint32_t>(std::max<std::uint64_t>(tables, 1));
  header.l1_table_offset = parts.l1_at() * kCluster;
  header.refcount_table_offset = parts.count_table_at() * kCluster;
  header.refcount_table_clusters = static_cast<std::uint32_t>(parts.count_table);
  Bytes first, count_table, counts, l1, l2;
  append_structure(first, header);
  append_structure(first, MoreRecord());
  for (std::uint64_t i = 0; i < parts.count_blocks; ++i)
    put64(count_table, (parts.count_blocks_at() + i) * kCluster);
  for (std::uint64_t i = 0; i < parts.total(); ++i) counts.insert(counts.end(), {0, 1});
  std::uint64_t next_table = parts.l2_at(), next_data = parts.data_at();
  for (std::uint64_t table = 0; table < tables; ++table) {
    bool in_use = table_in_use(table);
    put64(l1, in_use ? next_table++ * kCluster | kCopied : 0);
    for (std::uint64_t i = 0; in_use && i < kEntriesATable; ++i) {
      std::uint64_t index = table * kEntriesATable + i;
      bool there = index < used.size() && used[static_cast<std::size_t>(index)];
      put64(l2, there ? next_data++ * kCluster | kCopied : 0);
    }
  }
  Assembly out;
  add_clusters(out, std::move(first), 1);
  add_clusters(out, std::move(count_table), parts.count_table);
  add_clusters(out, std::move(counts), parts.count_blocks);
  add_clusters(out, std::move(l1), parts.l1);
  add_clusters(out, std::move(l2), parts.l2);
  for (std::size_t i = 0; i < used.size(); ++i) {
    if (used[i]) add_block(out, disk, i, kCluster);
  }
  return out;
}

}  // namespace operculum
