// File entries, and where their data lies.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "format/filesystem/udf_volume.h"

namespace operculum::udf {
namespace {

constexpr unsigned kMostContinuations = 10000;
constexpr std::uint32_t kLengthMask = 0x3FFFFFFF;
constexpr std::uint32_t kRecorded = 0, kGoesOn = 3;  // kinds of extents; the others are holes

/// What the two kinds of entries have in different places; behind it the attributes and descriptors.
template <typename Rest>
void take_rest(FileEntry& e, const Rest& rest, ByteView raw) {
  e.blocks = rest.blocks;
  e.accessed = time_of(rest.accessed);
  e.modified = time_of(rest.modified);
  e.changed = time_of(rest.changed);
  ByteView body = raw.subspan(size_on_disk<Rest>);
  std::size_t attributes = std::min<std::size_t>(rest.attributes_length, body.size());
  if (rest.allocation_length > body.size() - attributes)
    throw Malformed(fmt::format("UDF block {}: {} bytes of allocation descriptors, {} have room", e.at.block,
                                rest.allocation_length, body.size() - attributes));
  ByteView data = body.subspan(attributes, rest.allocation_length);
  e.allocation.assign(data.begin(), data.end());
  constexpr std::size_t kLeast = size_on_disk<DeviceAttribute>, kLeastLength = 12;
  for (std::size_t at = kAttributesHeadSize; at + kLeast <= attributes;) {
    auto attribute = read_structure<DeviceAttribute>(body.data() + at);
    if (attribute.type == DeviceAttribute::kType) {
      e.device_major = attribute.major;
      e.device_minor = attribute.minor;
    }
    if (attribute.length < kLeastLength) break;
    at += attribute.length;
  }
}

}  // namespace

FileEntry Volume::entry(Address at) const {
  Bytes raw = read_exactly(*partition(at.partition), at.block * block_size_, block_size_, "UDF file entry");
  return parse_entry(raw, at);
}

FileEntry Volume::parse_entry(ByteView raw, Address at) const {
  bool extended = has_tag(raw, extended_file_entry_tag);
  if (!extended && !has_tag(raw, file_entry_tag))
    throw Malformed(
        fmt::format("UDF block {}: expected a file entry, found something else or damage", at.block));
  if (raw.size() < size_on_disk<ExtendedEntryRest>)
    throw CutShort(fmt::format("UDF block {}: the file entry is cut short", at.block));
  auto head = read_structure<FileEntryHead>(raw.data());
  FileEntry e;
  e.at = at;
  e.type = head.type;
  e.flags = head.flags;
  e.uid = head.uid;
  e.gid = head.gid;
  e.permissions = head.permissions;
  e.links = head.links;
  e.size = head.size;
  if (extended) {
    auto rest = read_structure<ExtendedEntryRest>(raw.data());
    e.created = time_of(rest.created);
    take_rest(e, rest, raw);
  } else {
    take_rest(e, read_structure<FileEntryRest>(raw.data()), raw);
  }
  return e;
}

SourcePtr Volume::data(const FileEntry& entry) const {
  if (entry.embedded()) {
    Bytes kept = entry.allocation;
    if (entry.size > kept.size())
      throw Malformed(fmt::format("UDF block {}: {} bytes are kept in the entry, its size says {}",
                                  entry.at.block, kept.size(), entry.size));
    kept.resize(static_cast<std::size_t>(entry.size));
    return make_memory_source(std::move(kept));
  }
  std::vector<Run> runs = runs_of(entry);
  std::vector<SourcePtr> parts;  // one for each stretch within one partition
  for (std::size_t i = 0; i < runs.size();) {
    std::vector<Extent> extents;
    std::uint64_t length = 0;
    std::uint16_t index = runs[i].at.partition;
    for (; i < runs.size() && (runs[i].hole || runs[i].at.partition == index); ++i) {
      if (!runs[i].hole) extents.push_back({length, runs[i].at.block * block_size_, runs[i].length});
      length += runs[i].length;
    }
    parts.push_back(make_extent_source(partition(index), std::move(extents), length));
  }
  if (parts.empty()) return make_memory_source({});
  return parts.size() == 1 ? parts[0] : make_joined(std::move(parts));
}

/// The runs of blocks that a file's allocation descriptors name.
std::vector<Run> Volume::runs_of(const FileEntry& entry) const {
  unsigned kind = entry.flags & FileEntry::kAllocationKind;
  if (kind > 1) throw Unsupported("UDF files with extended allocation descriptors");
  std::size_t width = kind == 0 ? size_on_disk<ShortAllocation> : size_on_disk<LongAllocation>;
  std::vector<Run> runs;
  Bytes table = entry.allocation;
  std::uint64_t done = 0;
  unsigned continuations = 0;
  for (std::size_t at = 0; at + width <= table.size() && done < entry.size;) {
    LongAllocation one;
    if (kind == 0) {
      auto raw = read_structure<ShortAllocation>(table.data() + at);
      one = {raw.length, raw.block, entry.at.partition};
    } else {
      one = read_structure<LongAllocation>(table.data() + at);
    }
    std::uint32_t length = one.length & kLengthMask, extent_kind = one.length >> 30;
    Address where{one.block, one.partition};
    if (length == 0) break;
    at += width;
    if (extent_kind == kGoesOn) {
      if (++continuations > kMostContinuations)
        throw Malformed(fmt::format("UDF block {}: the allocation descriptors form a loop", entry.at.block));
      table = more_descriptors(where);
      at = 0;
      continue;
    }
    std::uint64_t used = std::min<std::uint64_t>(length, entry.size - done);
    runs.push_back({used, where, extent_kind != kRecorded});
    done += used;
  }
  return runs;
}

Bytes Volume::more_descriptors(Address where) const {
  Bytes next = read_exactly(*partition(where.partition), where.block * block_size_, block_size_,
                            "UDF allocation extent");
  if (!has_tag(next, allocation_extent_tag))
    throw Malformed(fmt::format("UDF block {}: expected an allocation extent", where.block));
  constexpr std::size_t kHead = size_on_disk<AllocationExtent>;
  std::size_t count =
      std::min<std::size_t>(read_structure<AllocationExtent>(next.data()).length, next.size() - kHead);
  return Bytes(next.begin() + kHead, next.begin() + static_cast<std::ptrdiff_t>(kHead + count));
}

}  // namespace operculum::udf
