#include "format/filesystem/fat_folder.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace operculum::fat {
namespace {

constexpr std::size_t kUnitsARow = 13, kLongestName = 255;  // units of UTF-16
constexpr std::string_view kShortExtra = "$%'-_@~`!(){}^#&";

std::uint8_t sum_of(ByteView short_name) {
  std::uint8_t sum = 0;
  for (Byte c : short_name) sum = static_cast<std::uint8_t>(((sum & 1) << 7) + (sum >> 1) + c);
  return sum;
}

std::string as_string(ByteView bytes) {
  return std::string(as_text(bytes));
}

bool is_short_letter(char c) {
  return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || kShortExtra.find(c) != std::string_view::npos;
}

/// The 11 letters of a name that needs no long one.
std::optional<std::string> plain_short(std::string_view name) {
  std::size_t dot = name.rfind('.');
  std::string_view stem = name.substr(0, dot),
                   ending = dot == std::string_view::npos ? "" : name.substr(dot + 1);
  bool fits = !stem.empty() && stem.size() <= 8 && ending.size() <= 3 &&
              (dot == std::string_view::npos || !ending.empty());
  auto plain = [](std::string_view part) { return std::all_of(part.begin(), part.end(), is_short_letter); };
  if (!fits || !plain(stem) || !plain(ending)) return std::nullopt;
  return fmt::format("{:<8}{:<3}", stem, ending);
}

void require_possible(const std::string& name, std::size_t units) {
  constexpr std::string_view kNever = "\"*/:<>?\\|";
  bool never = std::any_of(name.begin(), name.end(), [&](char c) {
    return static_cast<Byte>(c) < 0x20 || kNever.find(c) != std::string_view::npos;
  });
  if (never || units > kLongestName || name.ends_with('.') || name.ends_with(' '))
    throw Unsupported(fmt::format("the name \"{}\" on a FAT volume", escape(name)));
}

Bytes long_rows(const std::string& units, std::uint8_t sum) {
  std::size_t count = (units.size() / 2 + kUnitsARow - 1) / kUnitsARow;
  std::string padded = units;
  if (padded.size() < count * kUnitsARow * 2) padded.append(2, '\0');
  padded.resize(count * kUnitsARow * 2, '\xFF');
  Bytes out;
  for (std::size_t i = count; i-- > 0;) {
    ByteView part = as_bytes(padded).subspan(i * kUnitsARow * 2, kUnitsARow * 2);
    LongRow row;
    row.order = static_cast<std::uint8_t>(i + 1) | (i + 1 == count ? LongRow::kLast : 0);
    row.sum = sum;
    std::copy_n(part.begin(), 10, row.first.begin());
    std::copy_n(part.begin() + 10, 12, row.second.begin());
    std::copy_n(part.begin() + 22, 4, row.third.begin());
    append_structure(out, row);
  }
  return out;
}

}  // namespace

std::string FolderItem::raw_name() const {
  return as_string(row.name);
}

std::optional<FolderItem> FolderReader::take(ByteView raw, std::uint64_t at) {
  FolderItem item;
  item.row = read_structure<Row>(raw.data());
  item.deleted = raw[0] == kDeleted;
  if ((item.row.attributes & long_name_mask) == long_name) {
    if (!item.deleted) add_long(read_structure<LongRow>(raw.data()), at);
    return std::nullopt;
  }
  std::string_view name = as_text(item.row.name);
  if ((item.row.attributes & volume_label) != 0 || name.starts_with(". ") || name.starts_with(".. ")) {
    forget();
    return std::nullopt;
  }
  item.at = item.first_at = at;
  if (!item.deleted) {
    std::uint64_t first_at = first_at_;
    item.long_name = take_long(item.row.name);
    if (item.long_name) item.first_at = first_at;
  } else {
    forget();
  }
  constexpr Byte kStandsForDeleted = 0x05;  // of a letter that has the number of the mark
  if (item.row.name[0] == kStandsForDeleted) item.row.name[0] = kDeleted;
  return item;
}

void FolderReader::add_long(const LongRow& row, std::uint64_t at) {
  if ((row.order & LongRow::kLast) != 0) {
    units_.clear();
    sum_ = row.sum;
    expected_ = row.order & 0x1F;
    first_at_ = at;
  }
  if ((row.order & 0x1F) != expected_ || expected_ == 0 || row.sum != sum_) return forget();
  --expected_;
  units_ = as_string(row.first) + as_string(row.second) + as_string(row.third) + units_;
}

/// The name, when it belongs to the file of this short name.
std::optional<std::string> FolderReader::take_long(ByteView short_name) {
  std::string units = std::move(units_);
  bool fits = expected_ == 0 && sum_of(short_name) == sum_ && !units.empty();
  forget();
  if (!fits) return std::nullopt;
  for (std::size_t i = 0; i + 1 < units.size(); i += 2) {
    if (units[i] == 0 && units[i + 1] == 0) units.resize(i);
  }
  return to_utf8(units, "UTF-16LE");
}

std::string short_name_text(const std::string& raw, std::uint8_t cases, bool deleted,
                            const std::string& encoding) {
  std::string stem = raw.substr(0, 8), ending = raw.substr(8, 3);
  if (deleted) stem[0] = '_';
  auto clean = [](std::string& part) { part.resize(part.find_last_not_of(' ') + 1); };
  clean(stem);
  clean(ending);
  if ((cases & 0x08) != 0) stem = to_lower(stem);
  if ((cases & 0x10) != 0) ending = to_lower(ending);
  std::string name = ending.empty() ? stem : stem + "." + ending;
  return is_ascii(name) ? name : to_utf8(name, encoding).value_or(name);
}

void TakenNames::add(const std::string& name, const std::string& short_name) {
  names_[to_lower(name)] = name;
  short_names_.insert(short_name);
}

/// Made of the letters of a long name, numbered until it is not taken: "CRAB-P~1PNG".
std::string TakenNames::numbered(std::string_view name) {
  std::size_t dot = name.rfind('.');
  if (dot == 0) dot = std::string_view::npos;
  auto clean = [](std::string_view part, std::size_t most) {
    std::string out;
    for (char c : part) {
      char upper = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
      bool rest_of_letter = (static_cast<Byte>(c) & 0xC0) == 0x80;  // in UTF-8
      if (c == ' ' || c == '.' || rest_of_letter) continue;
      if (out.size() < most) out += is_short_letter(upper) ? upper : '_';
    }
    return out;
  };
  std::string stem = clean(name.substr(0, dot), 8);
  std::string ending = dot == std::string_view::npos ? "" : clean(name.substr(dot + 1), 3);
  for (std::size_t& number = next_number_[fmt::format("{}.{}", stem, ending)]; number < 999'999;) {
    std::string tail = fmt::format("~{}", ++number);
    std::string made = fmt::format("{:<8}{:<3}", stem.substr(0, 8 - tail.size()) + tail, ending);
    if (!short_names_.contains(made)) return made;
  }
  throw Unsupported("so many names that begin alike in one folder of a FAT volume");
}

Bytes TakenNames::rows_of(const std::string& name, Row row) {
  auto units = from_utf8(name, "UTF-16LE");
  if (!units) throw Unsupported(fmt::format("the name \"{}\" on a FAT volume", escape(name)));
  require_possible(name, units->size() / 2);
  if (auto same = names_.find(to_lower(name)); same != names_.end()) {
    throw Unsupported(
        fmt::format("\"{}\" beside \"{}\" in one folder of a FAT volume, where letters' case does not count",
                    escape(name), escape(same->second)));
  }
  auto plain = plain_short(name);
  if (plain && short_names_.contains(*plain)) plain.reset();
  std::string letters = plain ? *plain : numbered(name);
  std::copy_n(letters.begin(), row.name.size(), row.name.begin());
  row.cases = 0;
  Bytes out;
  if (!plain) out = long_rows(*units, sum_of(row.name));
  append_structure(out, row);
  add(name, letters);
  return out;
}

}  // namespace operculum::fat
