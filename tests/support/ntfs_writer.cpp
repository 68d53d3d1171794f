// Follows the layout in src/format/filesystem/ntfs_records.h: boot sector, the table of file records, its
// mirror, then the clusters of everything that does not fit into its record.
#include "support/ntfs_writer.h"

#include <algorithm>
#include <map>

#include "base/text.h"
#include "support/lz_items.h"

namespace operculum::test {
namespace {

constexpr std::size_t kSector = 512, kCluster = 1024, kRecord = 1024, kIndexBlock = 4096;
constexpr std::size_t kUnit = 16;  // clusters that are packed together
constexpr std::uint64_t kTableAt = 4, kFirstFile = 24, kRoot = 5, kSerial = 0x5A17'3A25'0000'0001;
constexpr std::uint32_t kStandard = 0x10, kList = 0x20, kName = 0x30, kVolumeName = 0x60, kVolumeInfo = 0x70,
                        kData = 0x80, kIndexRoot = 0x90, kIndexBlocks = 0xA0, kBitmap = 0xB0, kReparse = 0xC0,
                        kEnd = 0xFFFFFFFF;
constexpr std::uint16_t kPacked = 1, kSparse = 0x8000;

Bytes wide(std::string_view text) {
  Bytes out;
  for (char c : text) {
    out.push_back(static_cast<Byte>(c));
    out.push_back(0);
  }
  return out;
}

std::string to_upper(std::string text) {
  for (char& c : text)
    if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
  return text;
}

std::uint64_t filetime(std::int64_t unix_time) {
  return static_cast<std::uint64_t>(unix_time + 11'644'473'600) * 10'000'000;
}

std::uint64_t reference(std::uint64_t number) {
  return number | (number == 0 ? 1 : number < kFirstFile ? number : 1) << 48;
}

// ---- attributes

/// Clusters one behind the other; a place of 0 is a hole.
struct Stretch {
  std::uint64_t place = 0, count = 0;
};
using Stretches = std::vector<Stretch>;

Bytes resident(std::uint32_t type, const Bytes& value, std::string_view name = "") {
  ByteWriter out;
  std::size_t value_at = (24 + name.size() * 2 + 7) / 8 * 8;
  std::size_t length = (value_at + value.size() + 7) / 8 * 8;
  out.u32(type).u32(length).u8(0).u8(name.size()).u16(24).u16(0).u16(0);
  out.u32(value.size()).u16(value_at).u16(0).bytes(wide(name)).align(8).bytes(value).align(8);
  return out.take();
}

/// Lengths and signed steps, in as few bytes as they need.
Bytes mapping_pairs(const Stretches& stretches) {
  Bytes out;
  std::int64_t before = 0;
  auto put = [&](std::int64_t value) {
    unsigned count = 0;
    do {
      out.push_back(static_cast<Byte>(value));
      bool negative = (value & 0x80) != 0;
      value >>= 8;
      ++count;
      if (value == (negative ? -1 : 0)) break;
    } while (true);
    return count;
  };
  for (const Stretch& one : stretches) {
    std::size_t head = out.size();
    out.push_back(0);
    unsigned lengths = put(static_cast<std::int64_t>(one.count)), steps = 0;
    if (one.place != 0) {
      steps = put(static_cast<std::int64_t>(one.place) - before);
      before = static_cast<std::int64_t>(one.place);
    }
    out[head] = static_cast<Byte>(steps << 4 | lengths);
  }
  out.push_back(0);
  return out;
}

struct Sizes {
  std::uint64_t size = 0, allocated = 0;
  std::uint16_t flags = 0;
  std::uint64_t taken = 0;  ///< bytes of clusters, of what is packed or has holes
};

Bytes elsewhere(std::uint32_t type, const Stretches& stretches, const Sizes& sizes,
                std::string_view name = "") {
  Bytes pairs = mapping_pairs(stretches);
  std::size_t head = sizes.flags != 0 ? 72 : 64, pairs_at = (head + name.size() * 2 + 7) / 8 * 8;
  std::uint64_t clusters = 0;
  for (const Stretch& one : stretches) clusters += one.count;
  ByteWriter out;
  out.u32(type).u32((pairs_at + pairs.size() + 7) / 8 * 8).u8(1).u8(name.size()).u16(head).u16(sizes.flags);
  out.u16(0).u64(0).u64(clusters - 1).u16(pairs_at).u8((sizes.flags & kPacked) != 0 ? 4 : 0).zeros(5);
  out.u64(sizes.allocated).u64(sizes.size).u64(sizes.size);
  if (sizes.flags != 0) out.u64(sizes.taken);
  out.bytes(wide(name)).align(8).bytes(pairs).align(8);
  return out.take();
}

/// Puts the update sequence into what is written in pieces of 512 bytes.
void protect(Bytes& raw, std::size_t sequence_at) {
  constexpr Byte kSequence[] = {7, 0};
  std::copy_n(kSequence, 2, raw.begin() + static_cast<std::ptrdiff_t>(sequence_at));
  for (std::size_t i = 0; i < raw.size() / kSector; ++i) {
    auto end = raw.begin() + static_cast<std::ptrdiff_t>((i + 1) * kSector - 2);
    std::copy_n(end, 2, raw.begin() + static_cast<std::ptrdiff_t>(sequence_at + 2 + i * 2));
    std::copy_n(kSequence, 2, end);
  }
}

// ---- LZNT1, [MS-XCA] 2.5: chunks of 4,096 bytes, copies whose two numbers share 16 bits

Bytes packed_chunk(ByteView plain) {
  ByteWriter out;
  Bytes group;
  std::size_t at = 0;
  unsigned flags = 0, items = 0;
  auto flush = [&] {
    if (items == 0) return;
    out.u8(flags).bytes(group);
    group.clear();
    flags = items = 0;
  };
  auto copy = [&](std::size_t distance, std::size_t length) {
    unsigned for_length = 12;
    for (std::size_t i = at - 1; i >= 16; i >>= 1) --for_length;
    std::size_t token = (distance - 1) << for_length | (length - 3);
    group.push_back(static_cast<Byte>(token));
    group.push_back(static_cast<Byte>(token >> 8));
    flags |= 1U << items;
    at += length;
  };
  auto count_item = [&] {
    if (++items == 8) flush();
  };
  for (const LzItem& item : find_copies(plain, {.window = 4096, .least = 3, .longest = 18})) {
    if (item.length == 0) {
      group.push_back(item.literal);
      ++at;
    } else {
      copy(item.distance, item.length);
    }
    count_item();
  }
  flush();
  return out.take();
}

Bytes packed_unit(ByteView plain) {
  constexpr std::size_t kChunk = 4096;
  ByteWriter out;
  for (std::size_t at = 0; at < plain.size(); at += kChunk) {
    ByteView chunk = plain.subspan(at, std::min(kChunk, plain.size() - at));
    Bytes packed = packed_chunk(chunk);
    bool smaller = packed.size() < chunk.size();
    std::size_t size = smaller ? packed.size() : chunk.size();
    out.u16((smaller ? 0xB000 : 0x3000) | (size - 1)).bytes(smaller ? ByteView(packed) : chunk);
  }
  return out.take();
}

// ---- the image

class NtfsWriter {
 public:
  NtfsWriter(const SampleTree& tree, const NtfsOptions& options, const std::string& label)
      : tree_(tree), options_(options), label_(label) {
    for (std::size_t i = 0; i < tree.size(); ++i) numbers_[tree[i].path] = kFirstFile + i;
    records_ = kFirstFile + tree.size() + 1;  // one more for data behind a list
    std::uint64_t table_end = kTableAt + records_ * kRecord / kCluster;
    mirror_at_ = table_end;
    next_ = table_end + 4;
    image_.resize(static_cast<std::size_t>(next_) * kCluster);
  }

  Bytes make() {
    for (const SampleNode& node : tree_) write_node(node);
    write_folder(folder_node(tree_, ""), kRoot);
    write_system();
    std::size_t mirrored = 4 * kRecord;
    std::copy_n(at_cluster(kTableAt), mirrored, at_cluster(mirror_at_));
    image_.resize((image_.size() + kCluster - 1) / kCluster * kCluster);
    Bytes boot = boot_sector(image_.size() / kSector);
    std::copy(boot.begin(), boot.end(), image_.begin());
    image_.insert(image_.end(), boot.begin(), boot.end());
    if (options_.damaged_boot_sector) std::fill_n(image_.begin(), kSector, Byte{0});
    if (options_.damaged_table_record) *at_cluster(kTableAt) = 0;
    return std::move(image_);
  }

 private:
  Bytes::iterator at_cluster(std::uint64_t cluster) {
    return image_.begin() + static_cast<std::ptrdiff_t>(cluster * kCluster);
  }

  Bytes boot_sector(std::uint64_t sectors) const {
    ByteWriter out;
    out.u8(0xEB).u8(0x52).u8(0x90).text("NTFS    ").u16(kSector).u8(kCluster / kSector).zeros(7).u8(0xF8);
    out.zeros(2).u16(63).u16(255).zeros(8).u32(0x800080).u64(sectors).u64(kTableAt).u64(mirror_at_);
    out.u32(kRecord / kCluster).u32(kIndexBlock / kCluster).u64(kSerial).u32(0).zeros(426).u16(0xAA55);
    return out.take();
  }

  /// Bytes in clusters of their own; with `apart` no two of them adjoin.
  Stretches store(ByteView data, bool apart = false) {
    std::uint64_t count = (data.size() + kCluster - 1) / kCluster;
    if (count == 0) return {};
    std::uint64_t step = apart ? 2 : 1, begin = next_;
    next_ += count * step;
    image_.resize(static_cast<std::size_t>(next_) * kCluster);
    Stretches out;
    for (std::uint64_t i = 0; i < count; ++i) {
      std::uint64_t place = apart ? begin + (count - 1 - i) * step : begin + i;
      ByteView part = data.subspan(static_cast<std::size_t>(i * kCluster));
      std::copy_n(part.begin(), std::min(part.size(), kCluster), at_cluster(place));
      if (!out.empty() && out.back().place + out.back().count == place) {
        ++out.back().count;
      } else {
        out.push_back({place, 1});
      }
    }
    return out;
  }

  void write_record(std::uint64_t number, bool folder, const std::vector<Bytes>& attributes,
                    std::uint64_t base = 0) {
    constexpr std::size_t kSequenceAt = 48, kFirst = 56;
    ByteWriter body;
    for (const Bytes& one : attributes) body.bytes(one);
    body.u32(kEnd).u32(0);
    ByteWriter out;
    out.text("FILE").u16(kSequenceAt).u16(kRecord / kSector + 1).u64(0).u16(reference(number) >> 48).u16(1);
    out.u16(kFirst).u16(folder ? 3 : 1).u32(kFirst + body.size()).u32(kRecord).u64(base);
    out.u16(attributes.size()).u16(0).u32(number).zeros(8).bytes(body.take());
    Bytes raw = out.take();
    if (raw.size() > kRecord) throw std::runtime_error("an NTFS record is too small for its attributes");
    raw.resize(kRecord);
    protect(raw, kSequenceAt);
    std::copy(raw.begin(), raw.end(), at_cluster(kTableAt + number));
  }

  // ---- what records hold

  Bytes standard(const SampleNode& node) const {
    constexpr std::uint32_t kReadOnly = 1, kIsSparse = 0x200, kIsReparse = 0x400, kIsPacked = 0x800;
    std::uint64_t time = filetime(node.time);
    std::uint32_t flags = (node.permissions() & 0222) == 0 ? kReadOnly : 0;
    if (node.kind == EntryKind::symbolic_link) flags |= kIsReparse;
    if (node.path == options_.packed) flags |= kIsPacked;
    if (node.path == options_.holed) flags |= kIsSparse;
    return ByteWriter().u64(time).u64(time).u64(time).u64(time).u32(flags).zeros(12).take();
  }

  std::uint64_t parent_of(const SampleNode& node) const {
    std::string parent = node.parent();
    return parent.empty() ? kRoot : numbers_.at(parent);
  }

  /// `kind`: 1 a long name, 2 a short one.
  Bytes file_name(const SampleNode& node, std::string_view name, std::uint8_t kind) const {
    std::uint64_t time = filetime(node.time);
    ByteWriter out;
    out.u64(reference(node.path.empty() ? kRoot : parent_of(node))).u64(time).u64(time).u64(time).u64(time);
    out.u64((node.data.size() + kCluster - 1) / kCluster * kCluster).u64(node.data.size());
    out.u32(node.kind == EntryKind::folder ? 0x10000000 : 0).u32(0).u8(name.size()).u8(kind);
    return out.bytes(wide(name)).take();
  }

  static std::string short_name(const SampleNode& node) {
    std::string name = to_upper(node.name().substr(0, 4));
    return name + "~1";
  }

  std::vector<Bytes> heads(const SampleNode& node) const {
    std::vector<Bytes> out = {resident(kStandard, standard(node))};
    if (options_.short_names) out.push_back(resident(kName, file_name(node, short_name(node), 2)));
    out.push_back(resident(kName, file_name(node, node.path.empty() ? "." : node.name(), 1)));
    return out;
  }

  void write_node(const SampleNode& node) {
    std::uint64_t number = numbers_.at(node.path);
    if (node.kind == EntryKind::folder) return write_folder(node, number);
    std::vector<Bytes> attributes = heads(node);
    if (node.kind == EntryKind::symbolic_link) {
      attributes.push_back(resident(kData, {}));
      attributes.push_back(reparse_attribute(link_point(node.target)));
    } else if (node.path == options_.listed) {
      write_listed(node, number, attributes);
      return;
    } else {
      attributes.push_back(data_attribute(node));
      if (node.path == options_.streamed)
        attributes.push_back(resident(kData, to_bytes("of the mole"), "note"));
    }
    write_record(number, false, attributes);
  }

  /// In clusters of its own where the record has no room for it.
  Bytes reparse_attribute(const Bytes& point) {
    constexpr std::size_t kFits = 400;
    if (point.size() <= kFits) return resident(kReparse, point);
    return elsewhere(kReparse, store(point),
                     {point.size(), (point.size() + kCluster - 1) / kCluster * kCluster});
  }

  /// IO_REPARSE_TAG_SYMLINK, a relative one.
  static Bytes link_point(const std::string& target) {
    std::string path = target;
    std::replace(path.begin(), path.end(), '/', '\\');
    Bytes units = wide(path);
    ByteWriter out;
    out.u32(0xA000000C).u16(12 + units.size() * 2).u16(0);
    out.u16(units.size()).u16(units.size()).u16(0).u16(units.size()).u32(1).bytes(units).bytes(units);
    return out.take();
  }

  Bytes data_attribute(const SampleNode& node) {
    constexpr std::size_t kFits = 300;
    const Bytes& data = node.data;
    if (node.path == options_.packed) return packed_data(data);
    if (node.path == options_.holed) return holed_data(data);
    if (data.size() <= kFits) return resident(kData, data);
    Sizes sizes{data.size(), (data.size() + kCluster - 1) / kCluster * kCluster};
    return elsewhere(kData, store(data, node.path == options_.scattered), sizes);
  }

  Bytes packed_data(const Bytes& data) {
    Stretches stretches;
    Sizes sizes{data.size(), 0, kPacked, 0};
    for (std::size_t at = 0; at < data.size(); at += kUnit * kCluster) {
      Bytes packed = packed_unit(ByteView(data).subspan(at, std::min(kUnit * kCluster, data.size() - at)));
      std::uint64_t taken = (packed.size() + kCluster - 1) / kCluster;
      for (const Stretch& one : store(packed)) stretches.push_back(one);
      if (taken < kUnit) stretches.push_back({0, kUnit - taken});
      sizes.taken += taken * kCluster;
      sizes.allocated += kUnit * kCluster;
    }
    return elsewhere(kData, stretches, sizes);
  }

  Bytes holed_data(const Bytes& data) {
    std::size_t half = data.size() / 2 / kCluster * kCluster;
    std::uint64_t all = (data.size() + kCluster - 1) / kCluster, first = half / kCluster;
    Stretches stretches = store(ByteView(data).first(half));
    stretches.push_back({0, all - first});
    return elsewhere(kData, stretches, {data.size(), all * kCluster, kSparse, half});
  }

  /// The data in the last record, which an attribute list names.
  void write_listed(const SampleNode& node, std::uint64_t number, std::vector<Bytes> attributes) {
    std::uint64_t more = records_ - 1;
    write_record(more, false, {data_attribute(node)}, reference(number));
    ByteWriter list;
    auto row = [&](std::uint32_t type, std::uint64_t segment) {
      list.u32(type).u16(32).u8(0).u8(26).u64(0).u64(reference(segment)).u16(0).zeros(6);
    };
    row(kStandard, number);
    row(kName, number);
    row(kData, more);
    attributes.insert(attributes.begin() + 1, resident(kList, list.take()));
    write_record(number, false, attributes);
  }

  // ---- folders

  Bytes index_entry(const SampleNode& node, std::string_view name, std::uint8_t kind) const {
    Bytes key = file_name(node, name, kind);
    ByteWriter out;
    out.u64(reference(numbers_.at(node.path))).u16((16 + key.size() + 7) / 8 * 8).u16(key.size()).u32(0);
    return out.bytes(key).align(8).take();
  }

  /// The last entry of a node; with the block below it where there is one.
  static Bytes index_end(std::optional<std::uint64_t> below) {
    ByteWriter out;
    out.u64(0).u16(below ? 24 : 16).u16(0).u16(below ? 3 : 2).u16(0);
    if (below) out.u64(*below);
    return out.take();
  }

  static Bytes with_block_below(Bytes entry, std::uint64_t block) {
    ByteWriter out;
    out.bytes(entry).u64(block);
    Bytes made = out.take();
    made[8] = static_cast<Byte>(made.size());
    made[12] = 1;
    return made;
  }

  Bytes index_block(std::uint64_t number, const Bytes& entries) const {
    constexpr std::size_t kSequenceAt = 40, kHead = 24, kFirst = 64;
    ByteWriter out;
    std::size_t used = kFirst - kHead + entries.size();
    out.text("INDX").u16(kSequenceAt).u16(kIndexBlock / kSector + 1).u64(0);
    out.u64(number * (kIndexBlock / kCluster)).u32(kFirst - kHead).u32(used).u32(kIndexBlock - kHead).u32(0);
    out.zeros(kFirst - kSequenceAt).bytes(entries);
    Bytes raw = out.take();
    raw.resize(kIndexBlock);
    protect(raw, kSequenceAt);
    return raw;
  }

  std::vector<Bytes> entries_of(const SampleNode& folder) const {
    std::map<std::string, Bytes> sorted;  // by names in capitals
    for (std::size_t i : children_of(tree_, folder.path)) {
      const SampleNode& node = tree_[i];
      sorted[to_upper(node.name())] = index_entry(node, node.name(), 1);
      if (options_.short_names)
        sorted[short_name(node) + node.name()] = index_entry(node, short_name(node), 2);
    }
    std::vector<Bytes> out;
    for (auto& [name, entry] : sorted) out.push_back(std::move(entry));
    return out;
  }

  static Bytes root_value(const Bytes& entries, bool has_blocks) {
    ByteWriter out;
    out.u32(kName).u32(1).u32(kIndexBlock).u8(kIndexBlock / kCluster).zeros(3);
    out.u32(16).u32(16 + entries.size()).u32(16 + entries.size()).u8(has_blocks).zeros(3).bytes(entries);
    return out.take();
  }

  /// In the record where it fits there, else a tree of two levels.
  void write_folder(const SampleNode& folder, std::uint64_t number) {
    constexpr std::size_t kFits = 400, kRoom = kIndexBlock - 64 - 24;
    std::vector<Bytes> attributes = heads(folder), entries = entries_of(folder);
    Bytes all;
    for (const Bytes& one : entries) all.insert(all.end(), one.begin(), one.end());
    if (all.size() <= kFits) {
      Bytes end = index_end(std::nullopt);
      all.insert(all.end(), end.begin(), end.end());
      attributes.push_back(resident(kIndexRoot, root_value(all, false), "$I30"));
      return write_record(number, true, attributes);
    }
    Bytes blocks, block, top;
    std::uint64_t count = 0;
    auto finish = [&] {
      Bytes end = index_end(std::nullopt);
      block.insert(block.end(), end.begin(), end.end());
      Bytes raw = index_block(count++, block);
      blocks.insert(blocks.end(), raw.begin(), raw.end());
      block.clear();
    };
    constexpr std::uint64_t kStep = kIndexBlock / kCluster;
    for (const Bytes& entry : entries) {
      if (block.size() + entry.size() > kRoom) {
        finish();
        Bytes separator = with_block_below(entry, (count - 1) * kStep);
        top.insert(top.end(), separator.begin(), separator.end());
      } else {
        block.insert(block.end(), entry.begin(), entry.end());
      }
    }
    finish();
    Bytes end = index_end((count - 1) * kStep);
    top.insert(top.end(), end.begin(), end.end());
    attributes.push_back(resident(kIndexRoot, root_value(top, true), "$I30"));
    attributes.push_back(elsewhere(kIndexBlocks, store(blocks), {blocks.size(), blocks.size()}, "$I30"));
    Bytes used(8);
    for (std::uint64_t i = 0; i < count; ++i) used[i / 8] |= static_cast<Byte>(1U << (i % 8));
    attributes.push_back(resident(kBitmap, used, "$I30"));
    write_record(number, true, attributes);
  }

  // ---- the file system's own files

  /// The attributes that all of them have.
  std::vector<Bytes> system_heads(const std::string& name) const {
    SampleNode node{.path = name};
    return {resident(kStandard, standard(node)), resident(kName, file_name(node, name, 3))};
  }

  void write_system_file(std::uint64_t number, const std::string& name, const Stretches& stretches,
                         std::uint64_t size) {
    std::vector<Bytes> attributes = system_heads(name);
    attributes.push_back(elsewhere(kData, stretches, {size, (size + kCluster - 1) / kCluster * kCluster}));
    write_record(number, false, attributes);
  }
  void write_system_file(std::uint64_t number, const std::string& name, const Bytes& data) {
    write_system_file(number, name, store(data), data.size());
  }

  void write_system() {
    std::vector<Bytes> volume = system_heads("$Volume");
    volume.push_back(resident(kVolumeName, wide(label_)));
    Bytes version = options_.all_system_files ? Bytes{2, 0} : Bytes{3, 1};
    volume.push_back(resident(kVolumeInfo, ByteWriter().u64(0).bytes(version).u16(0).take()));
    volume.push_back(resident(kData, {}));
    write_record(3, false, volume);
    write_system_file(1, "$MFTMirr", {{mirror_at_, 4}}, 4 * kRecord);
    if (options_.all_system_files) {
      write_system_file(2, "$LogFile", Bytes(64 << 10, Byte{0xFF}));  // an empty one
      write_system_file(4, "$AttrDef", attribute_kinds());
      write_system_file(7, "$Boot", {{0, 1}}, kCluster);
      write_system_file(10, "$UpCase", capitals());
    }
    Bytes used((next_ + 64) / 64 * 8, Byte{0xFF});
    write_system_file(6, "$Bitmap", used);
    std::vector<Bytes> table = system_heads("$MFT");
    table.push_back(elsewhere(kData, {{kTableAt, records_}}, {records_ * kRecord, records_ * kRecord}));
    Bytes in_use((records_ + 63) / 64 * 8, Byte{0xFF});
    table.push_back(elsewhere(kBitmap, store(in_use), {in_use.size(), kCluster}));
    write_record(0, false, table);
  }

  static Bytes attribute_kinds() {
    constexpr std::pair<std::string_view, std::uint32_t> kKinds[] = {
        {"$STANDARD_INFORMATION", kStandard}, {"$ATTRIBUTE_LIST", kList},           {"$FILE_NAME", kName},
        {"$VOLUME_NAME", kVolumeName},        {"$VOLUME_INFORMATION", kVolumeInfo}, {"$DATA", kData},
        {"$INDEX_ROOT", kIndexRoot},          {"$INDEX_ALLOCATION", kIndexBlocks},  {"$BITMAP", kBitmap},
        {"$REPARSE_POINT", kReparse}};
    ByteWriter out;
    for (const auto& [name, type] : kKinds) {
      Bytes text = wide(name);
      text.resize(128);
      out.bytes(text).u32(type).u32(0).u32(0).u32(0).u64(0).u64(~std::uint64_t{0});
    }
    return out.zeros(160).take();
  }

  static Bytes capitals() {
    ByteWriter out;
    for (unsigned unit = 0; unit < 0x10000; ++unit) out.u16(unit >= 'a' && unit <= 'z' ? unit - 32 : unit);
    return out.take();
  }

  const SampleTree& tree_;
  NtfsOptions options_;
  std::string label_;
  std::map<std::string, std::uint64_t> numbers_;
  std::uint64_t records_ = 0, mirror_at_ = 0, next_ = 0;
  Bytes image_;
};

}  // namespace

Bytes make_ntfs(const SampleTree& tree, const NtfsOptions& options, const std::string& label) {
  return NtfsWriter(tree, options, label).make();
}

}  // namespace operculum::test
