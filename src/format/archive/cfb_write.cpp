#include "format/archive/cfb_write.h"

#include <fmt/format.h>
#include <locale.h>
#include <wctype.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum::cfb {
namespace {

constexpr std::size_t kLongestName = 31;  // UTF-16 units
constexpr std::uint64_t kRangeLock =
    0x7FFFFF00;  // bytes: the sector here must stay unused (2.3), so that files end in front of it

/// Upper case of a unit, as the order of names wants it (2.6.4).
char16_t upper(char16_t unit) {
  static const locale_t kUnicode = newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr);
  if (kUnicode == nullptr || unit < 0x80) return unit >= 'a' && unit <= 'z' ? unit - 32 : unit;
  return static_cast<char16_t>(towupper_l(unit, kUnicode));
}

std::u16string units_of(const DirectoryEntry& record) {
  std::u16string units;
  for (std::size_t i = 0; i + 2 < std::min<std::size_t>(record.name_length, record.name.size()); i += 2)
    units.push_back(static_cast<char16_t>(record.name[i] | record.name[i + 1] << 8));
  return units;
}

/// Shorter names first, then unit by unit.
bool is_before(const std::u16string& a, const std::u16string& b) {
  if (a.size() != b.size()) return a.size() < b.size();
  return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end(),
                                      [](char16_t x, char16_t y) { return upper(x) < upper(y); });
}

class Writer {
 public:
  Writer(const Header& form, std::vector<NewNode> nodes) : header_(form), nodes_(std::move(nodes)) {
    sector_ = std::uint64_t{1} << form.sector_shift;
  }

  Assembly run() {
    link_trees();
    place_streams();
    place_short_streams();
    place_directory();
    place_table();
    return std::move(out_);
  }

 private:
  std::uint32_t next() const { return static_cast<std::uint32_t>(table_.size()); }

  // ---- the trees of names

  void link_trees() {
    for (NewNode& node : nodes_) node.record.left = node.record.right = node.record.child = kNoNode;
    nodes_.front().record.color = black_node;
    for (NewNode& node : nodes_) {
      if (node.children.empty()) continue;
      std::vector<std::pair<std::u16string, std::size_t>> sorted;
      for (std::size_t child : node.children) sorted.emplace_back(units_of(nodes_[child].record), child);
      std::sort(sorted.begin(), sorted.end(),
                [](const auto& a, const auto& b) { return is_before(a.first, b.first); });
      for (std::size_t i = 1; i < sorted.size(); ++i) {
        if (!is_before(sorted[i - 1].first, sorted[i].first))
          throw Unsupported("two names in a storage of a compound file that differ in case alone");
      }
      std::size_t full = 0;  // levels that are complete: what lies below them is red, all else black
      while ((std::size_t{2} << full) <= sorted.size() + 1) ++full;
      node.record.child = link(sorted, 0, sorted.size(), full);
    }
  }

  std::uint32_t link(const std::vector<std::pair<std::u16string, std::size_t>>& sorted, std::size_t from,
                     std::size_t to, std::size_t levels_left) {
    if (from == to) return kNoNode;
    std::size_t middle = from + (to - from) / 2;
    DirectoryEntry& record = nodes_[sorted[middle].second].record;
    record.color = levels_left == 0 ? red_node : black_node;
    std::size_t below = levels_left == 0 ? 0 : levels_left - 1;
    record.left = link(sorted, from, middle, below);
    record.right = link(sorted, middle + 1, to, below);
    return static_cast<std::uint32_t>(sorted[middle].second);
  }

  // ---- sectors

  void note_chain(std::vector<std::uint32_t>& table, std::uint64_t count) const {
    if (table.size() + count > most_sector_mark) throw Unsupported("a compound file with so many sectors");
    for (std::uint64_t i = 1; i <= count; ++i)
      table.push_back(i == count ? std::uint32_t{end_of_chain_sector_mark}
                                 : static_cast<std::uint32_t>(table.size() + 1));
  }

  /// Adds what was put into `bytes` as a chain, and returns where it begins.
  std::uint32_t place(const Assembly& bytes, Byte filler = 0) {
    if (bytes.size() == 0) return end_of_chain_sector_mark;
    std::uint32_t start = next();
    std::uint64_t count = (bytes.size() + sector_ - 1) / sector_;
    body_.add(bytes);
    fill(body_, count * sector_ - bytes.size(), filler);
    note_chain(table_, count);
    return start;
  }
  static void fill(Assembly& to, std::uint64_t count, Byte filler) {
    if (filler == 0) return to.add_zeros(count);
    to.add(Bytes(static_cast<std::size_t>(count), filler));
  }
  std::uint32_t place(Bytes bytes, Byte filler) {
    Assembly one;
    one.add(std::move(bytes));
    return place(one, filler);
  }

  bool is_short(const NewNode& node) const { return node.bytes->size() < header_.mini_stream_cutoff; }

  void place_streams() {
    for (NewNode& node : nodes_) {
      if (!node.bytes) continue;
      node.record.size = node.bytes->size();
      node.record.start = end_of_chain_sector_mark;
      if (is_short(node)) continue;
      Assembly all;
      all.add(node.bytes);
      node.record.start = place(all);
    }
  }

  void place_short_streams() {
    constexpr std::uint64_t kShort = std::uint64_t{1} << kShortShift;
    Assembly all;
    std::vector<std::uint32_t> table;
    for (NewNode& node : nodes_) {
      if (!node.bytes || !is_short(node) || node.bytes->size() == 0) continue;
      node.record.start = static_cast<std::uint32_t>(table.size());
      std::uint64_t count = (node.bytes->size() + kShort - 1) / kShort;
      all.add(node.bytes);
      all.add_zeros(count * kShort - node.bytes->size());
      note_chain(table, count);
    }
    DirectoryEntry& root = nodes_.front().record;
    root.size = all.size();
    root.start = place(all);
    header_.first_mini_fat_sector = place(bytes_of(table), 0xff);
    header_.mini_fat_sectors = sectors(table.size() * 4);
  }

  std::uint32_t sectors(std::uint64_t bytes) const {
    return static_cast<std::uint32_t>((bytes + sector_ - 1) / sector_);
  }

  void place_directory() {
    Bytes directory;
    for (const NewNode& node : nodes_) append_structure(directory, node.record);
    DirectoryEntry unused;
    unused.color = red_node;  // as makers leave it
    while (directory.size() % sector_ != 0) append_structure(directory, unused);
    header_.directory_sectors = header_.major_version < 4 ? 0 : sectors(directory.size());
    header_.first_directory_sector = place(std::move(directory), 0);
  }

  /// The table tells of its own sectors, and of those that list them.
  void place_table() {
    const std::uint64_t rows = sector_ / 4;
    std::uint64_t used = table_.size(), tables = 0, lists = 0;
    for (;;) {
      std::uint64_t wanted = (used + tables + lists + rows - 1) / rows;
      std::uint64_t behind = wanted > kTableInHeader ? wanted - kTableInHeader : 0;
      std::uint64_t wanted_lists = (behind + rows - 2) / (rows - 1);
      if (wanted == tables && wanted_lists == lists) break;
      tables = wanted;
      lists = wanted_lists;
    }
    std::uint64_t total = used + tables + lists;
    if ((total + 1) * sector_ > kRangeLock) throw Unsupported("a compound file of 2 GiB and more");
    table_.insert(table_.end(), static_cast<std::size_t>(tables), table_sector_mark);
    table_.insert(table_.end(), static_cast<std::size_t>(lists), list_sector_mark);
    table_.resize(static_cast<std::size_t>(tables * rows), free_sector_mark);
    std::vector<std::uint32_t> places;
    for (std::uint64_t i = 0; i < tables; ++i) places.push_back(static_cast<std::uint32_t>(used + i));
    header_.fat_sectors = static_cast<std::uint32_t>(tables);
    header_.difat_sectors = static_cast<std::uint32_t>(lists);
    auto list = static_cast<std::uint32_t>(used + tables);
    header_.first_difat_sector = lists > 0 ? list : std::uint32_t{end_of_chain_sector_mark};
    Bytes front(static_cast<std::size_t>(sector_));
    write_structure(header_, front.data());
    std::vector<std::uint32_t> in_header(
        places.begin(),
        places.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(places.size(), kTableInHeader)));
    in_header.resize(kTableInHeader, free_sector_mark);
    Bytes raw = bytes_of(in_header);
    std::copy(raw.begin(), raw.end(), front.begin() + kTableInHeaderAt);
    out_.add(std::move(front));
    out_.add(body_);
    out_.add(bytes_of(table_));
    std::size_t done = kTableInHeader;
    for (std::uint64_t i = 0; i < lists; ++i) {
      std::vector<std::uint32_t> row;
      while (row.size() < rows - 1)
        row.push_back(done < places.size() ? places[done++] : std::uint32_t{free_sector_mark});
      row.push_back(i + 1 < lists ? ++list : std::uint32_t{end_of_chain_sector_mark});
      out_.add(bytes_of(row));
    }
  }

  static Bytes bytes_of(const std::vector<std::uint32_t>& numbers) {
    Bytes out;
    out.reserve(numbers.size() * 4);
    for (std::uint32_t number : numbers) append_number(out, 4, number);
    return out;
  }

  Header header_;
  std::vector<NewNode> nodes_;
  std::uint64_t sector_;              // bytes
  std::vector<std::uint32_t> table_;  // of all sectors so far
  Assembly body_, out_;
};

}  // namespace

void set_name(DirectoryEntry& record, std::string_view name) {
  auto units = from_utf8(name, "UTF-16LE");
  bool fits = units && !units->empty() && units->size() / 2 <= kLongestName;
  if (!fits || name.find_first_of("/\\:!") != std::string_view::npos)
    throw Unsupported(fmt::format(
        "the name \"{}\" in a compound file, where names have up to {} characters, none of them / \\ : !",
        escape(name), kLongestName));
  record.name = {};
  std::copy(units->begin(), units->end(), record.name.begin());
  record.name_length = static_cast<std::uint16_t>(units->size() + 2);
}

Assembly write(const Header& form, std::vector<NewNode> nodes) {
  constexpr unsigned kOldShift = 9, kNewShift = 12;
  if (form.sector_shift != kOldShift && form.sector_shift != kNewShift)
    throw Unsupported(fmt::format("writing a compound file with sectors of 2^{} bytes", form.sector_shift));
  return Writer(form, std::move(nodes)).run();
}

}  // namespace operculum::cfb
