#include "format/image/partition_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "container/trim.h"

namespace operculum {
namespace {

constexpr std::string_view kUnallocated = "unallocated";  // the type of what no partition covers

class PartitionContainer final : public Container {
 public:
  PartitionContainer(SourcePtr disk, PartitionTable table)
      : disk_(std::move(disk)), facts_(std::move(table.facts)), sector_(table.sector) {
    for (auto [begin, end] : table.taken) taken_end_ = std::max(taken_end_, end);
    for (Finding& finding : table.findings) add_finding(finding.level, std::move(finding.text));
    if (disk_->size() % table.sector != 0) {
      add_finding(Finding::Level::warning, fmt::format("the size is not a multiple of the sector ({} bytes): "
                                                       "the image may be cut short, or something follows it",
                                                       table.sector));
    }
    for (const Partition& one : table.partitions) add_partition(one);
    add_unallocated(table);
    for (const Partition& one : parts_) add_entry(one);
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t index) override {
    return make_content(make_slice(disk_, parts_[index].start, parts_[index].length));
  }
  Facts facts() override { return facts_; }

  /// Up to the end of the last partition, or of a copy of the table that lies behind it.
  std::optional<Trimmed> trimmed(Look look) override {
    std::uint64_t needed = taken_end_;
    for (const Partition& one : parts_) {
      if (one.type != kUnallocated) needed = std::max(needed, one.start + one.length);
    }
    auto out = without_end(disk_, needed, sector_, look);
    for (std::size_t i = 0; out && i < parts_.size(); ++i)
      if (parts_[i].start >= out->result.size()) out->gone.push_back(i);
    return out;
  }

  Lookup find(std::string_view path) override {
    Lookup found = Container::find(path);
    if (found.kind != Lookup::Kind::nothing) return found;
    for (const Partition& one : parts_) {  // by its name
      if (one.name.empty() || !path.starts_with(one.name) ||
          (path.size() > one.name.size() && path[one.name.size()] != '/'))
        continue;
      found = Container::find(one.path);
      found.consumed = one.name.size();
      return found;
    }
    return found;
  }

 private:
  void add_partition(const Partition& one) {
    std::uint64_t size = disk_->size();
    if (one.start >= size) {
      add_finding(
          Finding::Level::fault,
          fmt::format("partition {} begins behind the end of the image; the image is cut short", one.path));
    } else if (one.length > size - one.start) {
      add_finding(
          Finding::Level::fault,
          fmt::format("partition {} goes {} bytes beyond the end of the image; the image is cut short",
                      one.path, grouped(one.length - (size - one.start))));
    }
    for (const Partition& other : parts_) {
      if (one.start < other.start + other.length && other.start < one.start + one.length)
        add_finding(Finding::Level::warning,
                    fmt::format("partitions {} and {} overlap", other.path, one.path));
    }
    parts_.push_back(one);
  }

  void add_unallocated(const PartitionTable& table) {
    std::vector<std::pair<std::uint64_t, std::uint64_t>> taken = table.taken;
    for (const Partition& one : table.partitions) taken.emplace_back(one.start, one.start + one.length);
    std::sort(taken.begin(), taken.end());
    std::uint64_t at = 0, number = 0;
    auto gap = [&](std::uint64_t begin, std::uint64_t end) {
      end = std::min(end, disk_->size());
      if (end >= begin + table.sector)
        parts_.push_back(
            {fmt::format("unallocated-{}", ++number), "", std::string(kUnallocated), begin, end - begin});
    };
    for (auto [begin, end] : taken) {
      gap(at, begin);
      at = std::max(at, end);
    }
    gap(at, disk_->size());
  }

  void add_entry(const Partition& one) {
    Entry entry;
    entry.path = one.path;
    entry.size = entry.stored_size = one.length;
    entry.stored_at = one.start;
    entry.flags = Entry::sparse;
    entry.extras().comment = one.name;
    entry.extras().type_tag = one.type;
    entries_.push_back(std::move(entry));
  }

  SourcePtr disk_;
  Facts facts_;
  std::uint64_t sector_, taken_end_ = 0;  // bytes
  std::vector<Partition> parts_;
  std::vector<Entry> entries_;
};

}  // namespace

ContainerPtr make_partitions(SourcePtr disk, PartitionTable table) {
  return std::make_shared<PartitionContainer>(std::move(disk), std::move(table));
}

}  // namespace operculum
