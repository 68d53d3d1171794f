#include "format/volume/lvm_group.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/error.h"
#include "base/text.h"
#include "format/volume/dm_snapshot.h"
#include "format/volume/dm_thin.h"
#include "io/extent_source.h"
#include "io/missing_source.h"

namespace operculum::lvm {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr int kDeepest = 12;
constexpr std::uint64_t kMostSegments = 100'000;

struct RaidType {
  std::string_view name;
  int level;
  unsigned layout;
};
/// As the kernel's module of LVM's RAID has them (drivers/md/dm-raid.c, raid_types).
constexpr RaidType kRaidTypes[] = {
    {"raid0", 0, 0},        {"raid0_meta", 0, 0},  {"raid1", 1, 0},       {"raid10", 10, 0},
    {"raid10_near", 10, 0}, {"raid4", 5, 4},       {"raid5", 5, 2},       {"raid5_la", 5, 0},
    {"raid5_ra", 5, 1},     {"raid5_ls", 5, 2},    {"raid5_rs", 5, 3},    {"raid5_n", 5, 5},
    {"raid6", 6, 8},        {"raid6_zr", 6, 8},    {"raid6_nr", 6, 9},    {"raid6_nc", 6, 10},
    {"raid6_la_6", 6, 16},  {"raid6_ra_6", 6, 17}, {"raid6_ls_6", 6, 18}, {"raid6_rs_6", 6, 19},
    {"raid6_0_6", 6, 20},   {"raid6_n_6", 6, 5}};

const RaidType* raid_type(std::string_view name) {
  const auto* found = std::find_if(std::begin(kRaidTypes), std::end(kRaidTypes),
                                   [&](const RaidType& one) { return one.name == name; });
  return found == std::end(kRaidTypes) ? nullptr : found;
}

/// "striped+LINEAR": what follows are flags for older programs.
std::string type_of(const Section& segment) {
  std::string type = segment.text("type");
  return type.substr(0, type.find('+'));
}

/// The volumes that hold an array's data. In the text each stands behind the one with its metadata; level 0
/// has none.
std::vector<std::string> images_of(const Section& segment) {
  std::vector<std::string> parts = segment.list("raids");
  if (parts.empty()) return segment.list("raid0_lvs");
  std::uint64_t count = segment.number("device_count", segment.number("stripe_count", 0));
  if (parts.size() == count) return parts;
  if (parts.size() != count * 2)
    throw Malformed(
        fmt::format("LVM2 metadata: expected {} members of an array, found {}", count, parts.size()));
  std::vector<std::string> out;
  for (std::size_t i = 1; i < parts.size(); i += 2) out.push_back(parts[i]);
  return out;
}

std::uint64_t number_of(const std::string& digits) {
  auto number = parse_number(digits);
  if (!number)
    throw Malformed(fmt::format("LVM2 metadata: expected an extent's number, found \"{}\"", escape(digits)));
  return *number;
}

}  // namespace

Group::Group(std::string name, Section text, std::map<std::string, SourcePtr> physical)
    : name_(std::move(name)), text_(std::move(text)) {
  extent_ = checked_mul(text_.number("extent_size"), kSector, "an extent");
  if (extent_ == 0) throw Malformed("LVM2 metadata: extents of 0 bytes are not possible");
  const Section* volumes = text_.section("physical_volumes");
  if (!volumes) throw Malformed("LVM2 metadata: there is no section physical_volumes");
  for (const auto& [own, one] : volumes->sections()) {
    const std::string& id = one.text("id");
    ids_[own] = id;
    starts_[own] = checked_mul(one.number("pe_start"), kSector, "the start of the extents");
    if (auto found = physical.find(id); found != physical.end()) physical_[own] = found->second;
  }
}

std::vector<std::string> Group::missing() const {
  std::vector<std::string> out;
  for (const auto& [own, id] : ids_)
    if (!physical_.contains(own)) out.push_back(id);
  return out;
}

const Section& Group::volume_text(const std::string& name) const {
  const Section* volumes = text_.section("logical_volumes");
  const Section* found = volumes ? volumes->section(name) : nullptr;
  if (!found) throw Malformed(fmt::format("LVM2 metadata: there is no volume \"{}\"", escape(name)));
  return *found;
}

std::vector<const Section*> Group::segments(const Section& volume) const {
  std::vector<const Section*> out;
  std::uint64_t count = volume.number("segment_count", 0);
  if (count > kMostSegments)
    throw Malformed(fmt::format("LVM2 metadata: a volume of {} segments is not possible", count));
  for (std::uint64_t i = 1; i <= count; ++i) {
    const Section* one = volume.section(fmt::format("segment{}", i));
    if (!one) throw Malformed(fmt::format("LVM2 metadata: segment{} of {} is missing", i, count));
    out.push_back(one);
  }
  std::sort(out.begin(), out.end(), [](const Section* a, const Section* b) {
    return a->number("start_extent") < b->number("start_extent");
  });
  return out;
}

std::uint64_t Group::size_of(const Section& volume) const {
  std::uint64_t extents = 0;
  for (const Section* one : segments(volume))
    extents = checked_add(extents, one->number("extent_count"), "a logical volume");
  return checked_mul(extents, extent_, "a logical volume");
}

/// A snapshot is written down as a volume of a made-up name, whose segment names the store, which is what a
/// person calls the snapshot, and the origin.
const Section* Group::snapshot_of(const std::string& store) const {
  const Section* volumes = text_.section("logical_volumes");
  if (!volumes) return nullptr;
  for (const auto& [name, one] : volumes->sections()) {
    const Section* segment = one.section("segment1");
    if (segment && type_of(*segment) == "snapshot" && segment->text("cow_store", "") == store) return segment;
  }
  return nullptr;
}

bool Group::is_there(const std::string& area, int depth) const {
  return ids_.contains(area) ? physical_.contains(area) : is_complete(area, depth + 1);
}

bool Group::is_complete(const std::string& volume, int depth) const {
  if (depth > kDeepest) return false;
  std::lock_guard lock(mutex_);
  if (auto known = complete_.find(volume); known != complete_.end()) return known->second;
  bool complete = parts_are_there(volume, depth);
  complete_.emplace(volume, complete);
  return complete;
}

bool Group::parts_are_there(const std::string& volume, int depth) const {
  for (const Section* one : segments(volume_text(volume))) {
    if (const RaidType* type = raid_type(type_of(*one))) {
      std::vector<std::string> images = images_of(*one);
      auto lost = std::count_if(images.begin(), images.end(),
                                [&](const std::string& image) { return !is_there(image, depth); });
      unsigned layout = static_cast<unsigned>(one->number("data_copies", 2)) | 0x100;
      RaidShape shape{type->level, type->level == 10 ? layout : type->layout, 0, 0};
      if (lost > redundancy(shape, images.size())) return false;
      continue;
    }
    std::vector<std::string> mirrors = one->list("mirrors"), areas = one->list("stripes");
    bool any = mirrors.empty();
    for (std::size_t i = 0; i < mirrors.size(); i += 2) any = any || is_there(mirrors[i], depth);
    if (!any) return false;
    for (std::size_t i = 0; i < areas.size(); i += 2)
      if (!is_there(areas[i], depth)) return false;
    for (const char* other : {"thin_pool", "metadata", "pool", "origin", "cow_store"}) {
      std::string name = one->text(other, "");
      if (!name.empty() && !is_complete(name, depth + 1)) return false;
    }
  }
  return true;
}

std::vector<Group::Volume> Group::volumes() const {
  std::vector<Volume> out;
  const Section* all = text_.section("logical_volumes");
  if (!all) return out;
  for (const auto& [name, one] : all->sections()) {
    std::vector<std::string> status = one.list("status");
    if (std::find(status.begin(), status.end(), "VISIBLE") == status.end()) continue;
    std::vector<const Section*> parts = segments(one);
    if (parts.empty()) continue;
    Volume volume{.name = name, .type = type_of(*parts.front())};
    if (volume.type.ends_with("-pool")) continue;  // only what is in it can be read
    volume.size = size_of(one);
    if (volume.type == "striped" && parts.front()->number("stripe_count", 0) == 1) volume.type = "linear";
    if (volume.type == "snapshot") {
      volume.name = parts.front()->text("cow_store");
      volume.type = "snapshot of " + parts.front()->text("origin");
    }
    volume.made = one.number("creation_time", 0);
    volume.complete = is_complete(name, 0);
    out.push_back(std::move(volume));
  }
  return out;
}

SourcePtr Group::open(const std::string& volume) const {
  if (const Section* snapshot = snapshot_of(volume))
    return make_dm_snapshot(open_at(snapshot->text("origin"), 0), open_at(volume, 0));
  return open_at(volume, 0);
}

SourcePtr Group::open_at(const std::string& volume, int depth) const {
  if (depth > kDeepest) throw Malformed("LVM2 metadata: volumes are made of each other without end");
  std::lock_guard lock(mutex_);
  if (auto known = opened_.find(volume); known != opened_.end()) return known->second;
  std::vector<SourcePtr> parts;
  std::uint64_t extents = 0;
  for (const Section* one : segments(volume_text(volume))) {
    if (one->number("start_extent") != extents)
      throw Malformed(fmt::format("LVM2 metadata: expected a segment of \"{}\" at extent {}, found one at {}",
                                  escape(volume), extents, one->number("start_extent")));
    std::uint64_t count = one->number("extent_count");
    extents = checked_add(extents, count, "a logical volume");
    parts.push_back(segment(*one, checked_mul(count, extent_, "a segment"), depth));
  }
  SourcePtr whole = parts.size() == 1 ? parts[0] : make_joined(std::move(parts));
  opened_.emplace(volume, whole);
  return whole;
}

SourcePtr Group::area(const std::string& name, std::uint64_t first_extent, std::uint64_t size,
                      int depth) const {
  std::uint64_t at = checked_mul(first_extent, extent_, "an area");
  auto id = ids_.find(name);
  if (id == ids_.end()) return make_slice(open_at(name, depth + 1), at, size);
  auto physical = physical_.find(name);
  if (physical == physical_.end())
    return make_missing(
        size, fmt::format("this part lies on physical volume {} of group \"{}\", which is not beside "
                          "this one",
                          escape(id->second), escape(name_)));
  SourcePtr out = make_slice(physical->second, checked_add(starts_.at(name), at, "an area"), size);
  if (out->size() == size) return out;
  return make_joined(
      {out, make_missing(size - out->size(), "the image of its physical volume is cut short")});
}

SourcePtr Group::segment(const Section& text, std::uint64_t size, int depth) const {
  std::string type = type_of(text);
  if (type == "striped" || type == "linear") return striped(text, size, depth);
  if (type == "mirror") {
    std::vector<std::string> parts = text.list("mirrors");
    for (std::size_t i = 0; i + 1 < parts.size(); i += 2)
      if (is_there(parts[i], depth)) return area(parts[i], number_of(parts[i + 1]), size, depth);
    return make_missing(size, "no part of this mirror is on a physical volume that is there");
  }
  if (raid_type(type) != nullptr) return raid(text, type, size, depth);
  if (type == "thin") return thin(text, size, depth);
  if (type == "zero") return make_extent_source(make_memory_source({}), {}, size);
  if (type == "error")
    return make_missing(size, "this part of the volume was given up: it is mapped to errors");
  throw Unsupported(fmt::format("LVM2 volumes of type {}", escape(type)));
}

SourcePtr Group::striped(const Section& text, std::uint64_t size, int depth) const {
  std::vector<std::string> parts = text.list("stripes");
  std::uint64_t count = text.number("stripe_count", parts.size() / 2);
  if (count == 0 || parts.size() != count * 2)
    throw Malformed(fmt::format("LVM2 metadata: expected {} stripes, found {}", count, parts.size() / 2));
  if (count == 1) return area(parts[0], number_of(parts[1]), size, depth);
  std::vector<SourcePtr> members;
  for (std::size_t i = 0; i < parts.size(); i += 2)
    members.push_back(area(parts[i], number_of(parts[i + 1]), size / count, depth));
  RaidShape shape{0, 0, checked_mul(text.number("stripe_size"), kSector, "a stripe"), size / count};
  return make_raid_array(shape, std::move(members));
}

SourcePtr Group::raid(const Section& text, const std::string& type, std::uint64_t size, int depth) const {
  const RaidType& kind = *raid_type(type);
  RaidShape shape{kind.level, kind.layout, checked_mul(text.number("stripe_size", 128), kSector, "a stripe"),
                  UINT64_MAX};
  if (kind.level == 10) shape.layout = static_cast<unsigned>(text.number("data_copies", 2)) | 0x100;
  std::vector<SourcePtr> members;
  for (const std::string& name : images_of(text)) {
    std::uint64_t own = size_of(volume_text(name));
    shape.member_size = std::min(shape.member_size, own);
    members.push_back(is_there(name, depth) ? open_at(name, depth + 1) : nullptr);
  }
  if (kind.level == 1) shape.member_size = std::min(shape.member_size, size);
  SourcePtr array = make_raid_array(shape, std::move(members));
  return make_slice(std::move(array), 0, size);
}

SourcePtr Group::thin(const Section& text, std::uint64_t size, int depth) const {
  const Section& pool = volume_text(text.text("thin_pool"));
  const Section* segment = pool.section("segment1");
  if (!segment) throw Malformed("LVM2 metadata: a thin pool without a segment");
  ThinVolume volume{.metadata = open_at(segment->text("metadata"), depth + 1),
                    .data = open_at(segment->text("pool"), depth + 1),
                    .device = text.number("device_id"),
                    .size = size};
  if (std::string origin = text.text("external_origin", ""); !origin.empty())
    volume.origin = open_at(origin, depth + 1);
  return make_thin_volume(std::move(volume));
}

}  // namespace operculum::lvm
