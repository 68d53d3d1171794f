#include "format/archive/cfb_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "io/extent_source.h"

namespace operculum::cfb {
namespace {

constexpr Byte kMarkBytes[] = {0xD0, 0xCF, 0x11, 0xE0, 0xA1, 0xB1, 0x1A, 0xE1};
constexpr std::size_t kNodeSize = 128, kTableInHeader = 109;
constexpr std::size_t kMostDepth = 200;
constexpr unsigned kShortShift = 6;
constexpr std::uint64_t kMostDirectory = std::uint64_t{256} << 20;

/// Sector numbers with a meaning of their own ([MS-CFB] 2.1).
enum : std::uint32_t { kMostSector = 0xFFFFFFFA, kEndOfChain = 0xFFFFFFFE, kFree = 0xFFFFFFFF };

enum NodeType : std::uint8_t { kStorage = 1, kStream = 2, kRoot = 5 };

std::vector<std::uint32_t> numbers(ByteView raw) {
  std::vector<std::uint32_t> all(raw.size() / 4);
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = load_little<std::uint32_t>(raw.data() + i * 4);
  return all;
}

}  // namespace

const ByteView kMark = kMarkBytes;

CompoundFile::CompoundFile(SourcePtr bytes) : bytes_(std::move(bytes)) {
  Bytes header = read_exactly(*bytes_, 0, kHeader, "compound file header");
  if (!std::equal(kMark.begin(), kMark.end(), header.begin()))
    throw Malformed("compound file header: the mark is missing");
  LittleFields f(header, "compound file header");
  version_ = f.u16(26);
  sector_shift_ = f.u16(30);
  if (f.u16(28) != 0xFFFE) throw Malformed("compound file header: the byte order mark is wrong");
  if (sector_shift_ < 7 || sector_shift_ > 16 || f.u16(32) != kShortShift)
    throw Malformed(fmt::format("compound file header: sectors of 2^{} and 2^{} bytes are not possible",
                                sector_shift_, f.u16(32)));
  cutoff_ = f.u32(56);
  read_sector_table(header);
  read_short_table(f.u32(60));
  read_directory(f.u32(48));
}

/// The table of chains lies in sectors that the header names, and a chain of further lists
/// ([MS-CFB] 2.3, 2.5).
void CompoundFile::read_sector_table(ByteView header) {
  LittleFields f(header, "compound file header");
  const std::uint64_t most = (bytes_->size() >> sector_shift_) + 1;
  const std::size_t per_sector = (std::size_t{1} << sector_shift_) / 4;
  std::vector<std::uint32_t> places = numbers(header.subspan(76, kTableInHeader * 4));
  std::uint32_t next = f.u32(68);
  std::unordered_set<std::uint32_t> seen;  // what is stated of the file's size bounds nothing
  while (next <= kMostSector) {
    if (!seen.insert(next).second) {
      troubles_.emplace_back("the list of table sectors is a loop");
      break;
    }
    Bytes raw = read_up_to(*bytes_, offset_of(next), per_sector * 4);
    if (raw.size() < per_sector * 4) {
      troubles_.emplace_back("the list of table sectors goes on behind the end of the file");
      break;
    }
    std::vector<std::uint32_t> more = numbers(raw);
    next = more.back();
    places.insert(places.end(), more.begin(), more.end() - 1);
  }
  std::uint64_t wanted = f.u32(44);
  std::unordered_set<std::uint32_t> named;
  for (std::uint32_t place : places) {
    if (place > kMostSector || table_.size() / per_sector >= wanted) continue;
    if (!named.insert(place).second) {
      troubles_.emplace_back("a sector of the table of chains is named twice");
      break;
    }
    if (table_.size() > most + per_sector) break;  // more than the file has sectors
    Bytes raw = read_up_to(*bytes_, offset_of(place), per_sector * 4);
    if (raw.size() < per_sector * 4)
      troubles_.emplace_back("a sector of the table of chains lies behind the end of the file");
    raw.resize(per_sector * 4, 0xFF);
    std::vector<std::uint32_t> more = numbers(raw);
    table_.insert(table_.end(), more.begin(), more.end());
  }
  auto last =
      std::find_if(table_.rbegin(), table_.rend(), [](std::uint32_t value) { return value != kFree; });
  stated_size_ = static_cast<std::uint64_t>(table_.rend() - last + 1) << sector_shift_;
}

std::vector<std::uint32_t> CompoundFile::chain(const std::vector<std::uint32_t>& table, std::uint32_t start,
                                               std::uint64_t units, std::string_view what) const {
  if (units > table.size())
    throw Malformed(
        fmt::format("{}: it states more sectors ({}) than there are ({})", what, units, table.size()));
  std::vector<std::uint32_t> all;
  all.reserve(static_cast<std::size_t>(units));
  for (std::uint32_t at = start; all.size() < units; at = table[at]) {
    if (at >= table.size()) {
      throw Malformed(fmt::format("{}: its chain of sectors ends after {} of {}; the file is damaged", what,
                                  all.size(), units));
    }
    all.push_back(at);
  }
  return all;
}

std::vector<std::uint32_t> CompoundFile::whole_chain(std::uint32_t start, std::string_view what) const {
  std::vector<std::uint32_t> all;
  for (std::uint32_t at = start; at < table_.size(); at = table_[at]) {
    if (all.size() > table_.size()) throw Malformed(fmt::format("{}: its chain of sectors is a loop", what));
    all.push_back(at);
  }
  return all;
}

SourcePtr CompoundFile::sectors(const std::vector<std::uint32_t>& chain, std::uint64_t size) const {
  const std::uint64_t sector = std::uint64_t{1} << sector_shift_;
  std::vector<Extent> extents;
  std::uint64_t at = 0;
  for (std::uint32_t number : chain) {
    std::uint64_t length = std::min(sector, size - at), from = offset_of(number);
    if (length == 0) break;
    if (!extents.empty() && extents.back().stored + extents.back().length == from) {
      extents.back().length += length;
    } else {
      extents.push_back({at, from, length});
    }
    at += length;
  }
  return make_extent_source(bytes_, std::move(extents), size);
}

void CompoundFile::read_short_table(std::uint32_t start) {
  try {
    std::vector<std::uint32_t> all = whole_chain(start, "the table of short chains");
    std::uint64_t size = std::uint64_t{all.size()} << sector_shift_;
    short_table_ = numbers(read_up_to(*sectors(all, size), 0, size));
  } catch (const Malformed& error) {
    troubles_.emplace_back(error.what());
  }
}

void CompoundFile::read_directory(std::uint32_t start) {
  std::vector<std::uint32_t> all = whole_chain(start, "the directory");
  std::uint64_t size = std::uint64_t{all.size()} << sector_shift_;
  if (size > kMostDirectory) throw LimitExceeded("a compound file with a directory of more than 256 MiB");
  Bytes directory = read_up_to(*sectors(all, size), 0, size);
  if (directory.size() < kNodeSize)
    throw Malformed("compound file: the directory is not there; it is damaged");
  read_tree(directory);
  const Node& root = nodes_.front();
  try {
    std::uint64_t sector = std::uint64_t{1} << sector_shift_;
    short_sectors_ =
        sectors(chain(table_, root.start, (root.size + sector - 1) / sector, "the short streams"), root.size);
  } catch (const Malformed& error) {
    troubles_.emplace_back(error.what());
  }
}

/// The names in a storage are a binary tree ([MS-CFB] 2.6.4); its colours do not matter to a reader.
void CompoundFile::read_tree(ByteView directory) {
  struct Pending {
    std::uint32_t id;
    std::size_t parent, depth;
  };
  const std::size_t count = directory.size() / kNodeSize;
  std::vector<bool> seen(count);
  bool loop = false, outside = false, deep = false;
  auto read = [&](std::uint32_t id, std::size_t parent) {
    LittleFields f(directory.subspan(id * kNodeSize, kNodeSize), "compound file directory entry");
    Node node;
    std::size_t length = std::min<std::size_t>(f.u16(64), 64);
    for (std::size_t i = 0; i + 2 <= length; i += 2) {
      char16_t unit = f.u16(i);
      if (unit == 0) break;
      node.wide.push_back(unit);
    }
    ByteView raw = f.bytes(0, node.wide.size() * 2);
    node.name = to_utf8(as_text(raw), "UTF-16LE").value_or(fmt::format("entry-{}", id));
    node.parent = parent;
    node.storage = f.u8(66) == kStorage || f.u8(66) == kRoot;
    ByteView class_id = f.bytes(80, 16);
    node.class_id.assign(class_id.begin(), class_id.end());
    if (f.u64(100) != 0) node.created = from_filetime(f.u64(100));
    if (f.u64(108) != 0) node.modified = from_filetime(f.u64(108));
    node.start = f.u32(116);
    node.size = version_ < 4 ? f.u32(120) : f.u64(120);
    nodes_.push_back(std::move(node));
    return f;
  };
  seen[0] = true;
  std::vector<Pending> pending;
  pending.push_back({read(0, 0).u32(76), 0, 1});
  while (!pending.empty()) {
    Pending at = pending.back();
    pending.pop_back();
    if (at.id == kNoNode) continue;
    if (at.id >= count || seen[at.id]) {
      (at.id >= count ? outside : loop) = true;
      continue;
    }
    seen[at.id] = true;
    LittleFields f(directory.subspan(at.id * kNodeSize, kNodeSize), "compound file directory entry");
    std::uint8_t type = f.u8(66);
    pending.push_back({f.u32(72), at.parent, at.depth});
    pending.push_back({f.u32(68), at.parent, at.depth});
    if (type != kStorage && type != kStream) continue;
    read(at.id, at.parent);
    if (type != kStorage) continue;
    if (at.depth < kMostDepth) pending.push_back({f.u32(76), nodes_.size() - 1, at.depth + 1});
    deep = deep || at.depth == kMostDepth;
  }
  if (loop) troubles_.emplace_back("the directory names an entry twice: it is damaged");
  if (deep)
    troubles_.emplace_back("storages lie in each other more than 200 deep; the deeper ones are left out");
  if (outside)
    troubles_.emplace_back("the directory names entries that do not exist: it is damaged or cut short");
}

SourcePtr CompoundFile::open(const Node& node) const {
  if (node.size == 0) return make_memory_source({});
  if (node.size >= cutoff_) {
    std::uint64_t sector = std::uint64_t{1} << sector_shift_;
    return sectors(chain(table_, node.start, (node.size - 1) / sector + 1, escape(node.name)), node.size);
  }
  if (!short_sectors_) throw Malformed("the short streams cannot be read; the file is damaged");
  std::vector<Extent> extents;
  std::uint64_t at = 0;
  for (std::uint32_t number : chain(short_table_, node.start, (node.size + 63) / 64, escape(node.name))) {
    std::uint64_t length = std::min<std::uint64_t>(64, node.size - at);
    extents.push_back({at, std::uint64_t{number} << kShortShift, length});
    at += length;
  }
  return make_extent_source(short_sectors_, std::move(extents), node.size);
}

}  // namespace operculum::cfb
