#include "format/archive/cfb_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "base/error.h"
#include "base/text.h"
#include "io/extent_source.h"

namespace operculum::cfb {
namespace {

constexpr Byte kMarkBytes[] = {0xD0, 0xCF, 0x11, 0xE0, 0xA1, 0xB1, 0x1A, 0xE1};
constexpr std::size_t kMostDepth = 200;
constexpr std::uint64_t kMostDirectory = std::uint64_t{256} << 20;

std::vector<std::uint32_t> numbers(ByteView raw) {
  std::vector<std::uint32_t> all(raw.size() / 4);
  for (std::size_t i = 0; i < all.size(); ++i) all[i] = load_little<std::uint32_t>(raw.data() + i * 4);
  return all;
}

}  // namespace

const ByteView kMark = kMarkBytes;

CompoundFile::CompoundFile(SourcePtr bytes) : bytes_(std::move(bytes)) {
  Bytes raw = read_exactly(*bytes_, 0, kHeader, "compound file header");
  if (!std::equal(kMark.begin(), kMark.end(), raw.begin()))
    throw Malformed("compound file header: the mark is missing");
  header_ = read_structure<Header>(raw.data());
  if (header_.byte_order != 0xFFFE)
    throw Malformed(fmt::format("compound file header: expected the byte order mark fffe, found {:04x}",
                                header_.byte_order));
  if (header_.sector_shift < 7 || header_.sector_shift > 16 || header_.mini_sector_shift != kShortShift)
    throw Malformed(fmt::format("compound file header: sectors of 2^{} and 2^{} bytes are not possible",
                                header_.sector_shift, header_.mini_sector_shift));
  read_sector_table(raw);
  read_short_table(header_.first_mini_fat_sector);
  read_directory(header_.first_directory_sector);
}

/// The table of chains lies in sectors that the header names, and a chain of further lists
/// ([MS-CFB] 2.3, 2.5).
void CompoundFile::read_sector_table(ByteView raw) {
  const std::uint64_t most = (bytes_->size() >> header_.sector_shift) + 1;
  const std::size_t per_sector = (std::size_t{1} << header_.sector_shift) / 4;
  std::vector<std::uint32_t> places = numbers(raw.subspan(kTableInHeaderAt, kTableInHeader * 4));
  std::uint32_t next = header_.first_difat_sector;
  std::unordered_set<std::uint32_t> seen;  // what is stated of the file's size bounds nothing
  while (next <= most_sector_mark) {
    if (!seen.insert(next).second) {
      troubles_.emplace_back("the list of table sectors is a loop");
      break;
    }
    Bytes list = read_up_to(*bytes_, offset_of(next), per_sector * 4);
    if (list.size() < per_sector * 4) {
      troubles_.emplace_back("the list of table sectors goes on behind the end of the file");
      break;
    }
    std::vector<std::uint32_t> more = numbers(list);
    next = more.back();
    places.insert(places.end(), more.begin(), more.end() - 1);
  }
  std::uint64_t wanted = header_.fat_sectors;
  std::unordered_set<std::uint32_t> named;
  for (std::uint32_t place : places) {
    if (place > most_sector_mark || table_.size() / per_sector >= wanted) continue;
    if (!named.insert(place).second) {
      troubles_.emplace_back("a sector of the table of chains is named twice");
      break;
    }
    if (table_.size() > most + per_sector) break;  // more than the file has sectors
    Bytes rows = read_up_to(*bytes_, offset_of(place), per_sector * 4);
    if (rows.size() < per_sector * 4)
      troubles_.emplace_back("a sector of the table of chains lies behind the end of the file");
    rows.resize(per_sector * 4, 0xFF);
    std::vector<std::uint32_t> more = numbers(rows);
    table_.insert(table_.end(), more.begin(), more.end());
  }
  auto last = std::find_if(table_.rbegin(), table_.rend(),
                           [](std::uint32_t value) { return value != free_sector_mark; });
  stated_size_ = static_cast<std::uint64_t>(table_.rend() - last + 1) << header_.sector_shift;
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
  const std::uint64_t sector = std::uint64_t{1} << header_.sector_shift;
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
    std::uint64_t size = std::uint64_t{all.size()} << header_.sector_shift;
    short_table_ = numbers(read_up_to(*sectors(all, size), 0, size));
  } catch (const Malformed& error) {
    troubles_.emplace_back(error.what());
  }
}

void CompoundFile::read_directory(std::uint32_t start) {
  std::vector<std::uint32_t> all = whole_chain(start, "the directory");
  std::uint64_t size = std::uint64_t{all.size()} << header_.sector_shift;
  if (size > kMostDirectory) throw LimitExceeded("a compound file with a directory of more than 256 MiB");
  Bytes directory = read_up_to(*sectors(all, size), 0, size);
  if (directory.size() < kDirectoryEntry)
    throw Malformed("compound file: the directory is not there; it is damaged");
  read_tree(directory);
  const Node& root = nodes_.front();
  try {
    std::uint64_t sector = std::uint64_t{1} << header_.sector_shift;
    short_sectors_ = sectors(
        chain(table_, root.record.start, (root.size + sector - 1) / sector, "the short streams"), root.size);
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
  const std::size_t count = directory.size() / kDirectoryEntry;
  std::vector<bool> seen(count);
  bool loop = false, outside = false, deep = false;
  auto record_of = [&](std::uint32_t id) {
    return read_structure<DirectoryEntry>(directory.data() + std::size_t{id} * kDirectoryEntry);
  };
  auto take = [&](std::uint32_t id, std::size_t parent, const DirectoryEntry& record) {
    Node node;
    node.record = record;
    std::size_t length = std::min<std::size_t>(record.name_length, record.name.size());
    for (std::size_t i = 0; i + 2 <= length; i += 2) {
      auto unit = static_cast<char16_t>(record.name[i] | record.name[i + 1] << 8);
      if (unit == 0) break;
      node.wide.push_back(unit);
    }
    std::string_view raw = as_text(ByteView(record.name).first(node.wide.size() * 2));
    node.name = to_utf8(raw, "UTF-16LE").value_or(fmt::format("entry-{}", id));
    node.parent = parent;
    node.storage = record.type == storage_node || record.type == root_node;
    if (record.created != 0) node.created = from_filetime(record.created);
    if (record.modified != 0) node.modified = from_filetime(record.modified);
    node.size = header_.major_version < 4 ? record.size & UINT32_MAX : record.size;
    nodes_.push_back(std::move(node));
  };
  seen[0] = true;
  std::vector<Pending> pending;
  DirectoryEntry root = record_of(0);
  take(0, 0, root);
  pending.push_back({root.child, 0, 1});
  while (!pending.empty()) {
    Pending at = pending.back();
    pending.pop_back();
    if (at.id == kNoNode) continue;
    if (at.id >= count || seen[at.id]) {
      (at.id >= count ? outside : loop) = true;
      continue;
    }
    seen[at.id] = true;
    DirectoryEntry record = record_of(at.id);
    pending.push_back({record.right, at.parent, at.depth});
    pending.push_back({record.left, at.parent, at.depth});
    if (record.type != storage_node && record.type != stream_node) continue;
    take(at.id, at.parent, record);
    if (record.type != storage_node) continue;
    if (at.depth < kMostDepth) pending.push_back({record.child, nodes_.size() - 1, at.depth + 1});
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
  if (node.size >= header_.mini_stream_cutoff) {
    std::uint64_t sector = std::uint64_t{1} << header_.sector_shift;
    return sectors(chain(table_, node.record.start, (node.size - 1) / sector + 1, escape(node.name)),
                   node.size);
  }
  if (!short_sectors_) throw Malformed("the short streams cannot be read; the file is damaged");
  std::vector<Extent> extents;
  std::uint64_t at = 0;
  for (std::uint32_t number :
       chain(short_table_, node.record.start, (node.size + 63) / 64, escape(node.name))) {
    std::uint64_t length = std::min<std::uint64_t>(64, node.size - at);
    extents.push_back({at, std::uint64_t{number} << kShortShift, length});
    at += length;
  }
  return make_extent_source(short_sectors_, std::move(extents), node.size);
}

}  // namespace operculum::cfb
