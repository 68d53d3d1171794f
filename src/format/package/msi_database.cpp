#include "format/package/msi_database.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"

namespace operculum::msi {
namespace {

constexpr std::string_view kAlphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz._";
constexpr char16_t kPairs = 0x3800, kSingles = 0x4800, kTableMark = 0x4840;
constexpr std::uint64_t kMostTable = std::uint64_t{256} << 20;
constexpr unsigned kTextType = 0x0D40, kKeyTextType = 0x2D40, kNumberType = 0x0502, kKeyNumberType = 0x2502;
constexpr std::uint32_t kWideReferences = 0x80000000;

std::string encoding_of(unsigned code_page) {
  switch (code_page) {
    case 0:  // neutral: ASCII is meant, the machine's own is used
    case 1252:
      return "CP1252";
    case 65001:
      return "UTF-8";
    default:
      return fmt::format("CP{}", code_page);
  }
}

}  // namespace

std::string decode_name(std::u16string_view stored) {
  std::u16string clear;
  for (char16_t unit : stored) {
    if (unit >= kPairs && unit < kSingles) {
      clear.push_back(static_cast<char16_t>(kAlphabet[(unit - kPairs) & 0x3F]));
      clear.push_back(static_cast<char16_t>(kAlphabet[(unit - kPairs) >> 6 & 0x3F]));
    } else if (unit >= kSingles && unit < kTableMark) {
      clear.push_back(static_cast<char16_t>(kAlphabet[unit - kSingles]));
    } else {
      clear.push_back(unit == kTableMark ? u'!' : unit);
    }
  }
  std::string raw;
  for (char16_t unit : clear) {
    raw.push_back(static_cast<char>(unit & 0xFF));
    raw.push_back(static_cast<char>(unit >> 8));
  }
  return to_utf8(raw, "UTF-16LE").value_or("unreadable-name");
}

// ---- strings

StringPool::StringPool(ByteView index, ByteView data) {
  Cursor cursor(index, "installer string pool");
  std::uint32_t head = cursor.u32le();
  wide_ = (head & kWideReferences) != 0;
  std::string encoding = encoding_of(head & ~kWideReferences);
  places_.emplace_back(0, 0);  // number 0 is null
  std::size_t at = 0;
  while (cursor.left() >= 4) {
    std::size_t length = cursor.u16le(), references = cursor.u16le();
    if (length == 0 && references != 0 && cursor.left() >= 4) length = cursor.u32le();
    if (length > data.size() - at) throw Malformed("installer string pool: it holds more text than there is");
    std::string_view raw = as_text(data.subspan(at, length));
    at += length;
    std::size_t begin = all_.size();
    all_ += is_ascii(raw) ? std::string(raw) : to_utf8(raw, encoding).value_or(std::string(raw));
    places_.emplace_back(begin, all_.size() - begin);
  }
}

std::string_view StringPool::text(std::size_t number) const {
  if (number >= places_.size()) return {};
  auto [begin, length] = places_[number];
  return std::string_view(all_).substr(begin, length);
}

// ---- tables

Table::Table(std::string name, std::vector<Column> columns, Bytes raw, const StringPool& pool)
    : name_(std::move(name)), columns_(std::move(columns)), raw_(std::move(raw)), pool_(pool) {
  std::size_t row = 0;
  for (const Column& column : columns_) row += column.width;
  if (row == 0) return;
  rows_ = raw_.size() / row;
  std::size_t start = 0;
  for (const Column& column : columns_) {
    starts_.push_back(start);
    start += column.width * rows_;
  }
}

std::uint32_t Table::raw_value(std::size_t row, std::size_t column) const {
  std::size_t width = columns_[column].width;
  const Byte* at = raw_.data() + starts_[column] + row * width;
  std::uint32_t value = 0;
  for (std::size_t i = width; i-- > 0;) value = value << 8 | at[i];
  return value;
}

std::optional<std::size_t> Table::find_column(std::string_view name) const {
  for (std::size_t i = 0; i < columns_.size(); ++i) {
    if (columns_[i].name == name) return i;
  }
  return std::nullopt;
}

std::string_view Table::text(std::size_t row, std::optional<std::size_t> column) const {
  if (!column || !columns_[*column].is_text()) return {};
  return pool_.text(raw_value(row, *column));
}

std::optional<std::int32_t> Table::number(std::size_t row, std::optional<std::size_t> column) const {
  if (!column || columns_[*column].is_text()) return std::nullopt;
  std::uint32_t value = raw_value(row, *column);
  if (value == 0) return std::nullopt;
  if (columns_[*column].width == 4) return static_cast<std::int32_t>(value ^ 0x80000000);
  return static_cast<std::int32_t>(value) - 0x8000;
}

std::string Table::stream_name(std::size_t row) const {
  std::string name = name_;
  for (std::size_t i = 0; i < columns_.size(); ++i) {
    if (columns_[i].is_key()) name.append(".").append(shown(row, i));
  }
  return name;
}

std::string Table::shown(std::size_t row, std::size_t column) const {
  if (columns_[column].is_text()) return std::string(text(row, column));
  if (columns_[column].is_stream()) return raw_value(row, column) == 0 ? "" : stream_name(row);
  auto value = number(row, column);
  return value ? std::to_string(*value) : "";
}

// ---- the database

Database::Database(SourcePtr bytes) : file_(std::move(bytes)) {
  const auto& nodes = file_.nodes();
  for (std::size_t i = 1; i < nodes.size(); ++i) {
    if (nodes[i].parent == 0 && !nodes[i].storage) streams_.emplace(decode_name(nodes[i].wide), i);
  }
  Bytes index = read_stream("!_StringPool");  // of two that are damaged always the same is told
  pool_ = StringPool(index, read_stream("!_StringData"));
  Table names("_Tables", fixed_columns({{"Name", kKeyTextType}}), read_stream("!_Tables"), pool_);
  for (std::size_t row = 0; row < names.rows(); ++row) {
    if (auto name = names.text(row, 0); !name.empty()) tables_.emplace_back(name);
  }
  read_columns();
}

std::size_t Database::width_of(unsigned type) const {
  if ((type & 0x0FFF) == 0x0900) return 2;
  if ((type & 0x0800) != 0) return pool_.reference_width();
  return (type & 0xFF) == 4 ? 4 : 2;
}

std::vector<Column> Database::fixed_columns(
    std::initializer_list<std::pair<const char*, unsigned>> columns) const {
  std::vector<Column> all;
  for (auto [name, type] : columns) all.push_back({name, type, width_of(type)});
  return all;
}

void Database::read_columns() {
  Table columns(
      "_Columns",
      fixed_columns(
          {{"Table", kKeyTextType}, {"Number", kKeyNumberType}, {"Name", kTextType}, {"Type", kNumberType}}),
      read_stream("!_Columns"), pool_);
  std::map<std::string, std::map<std::int32_t, Column>> by_number;
  for (std::size_t row = 0; row < columns.rows(); ++row) {
    auto number = columns.number(row, 1), type = columns.number(row, 3);
    if (!number || !type) continue;
    auto bits = static_cast<unsigned>(*type) & 0xFFFF;
    by_number[std::string(columns.text(row, 0))][*number] = {std::string(columns.text(row, 2)), bits,
                                                             width_of(bits)};
  }
  for (auto& [table, numbered] : by_number) {
    for (auto& [number, column] : numbered) columns_[table].push_back(std::move(column));
  }
}

Bytes Database::read_stream(std::string_view name) const {
  SourcePtr source = stream(name);
  if (!source) return {};
  if (source->size() > kMostTable)
    throw LimitExceeded(fmt::format("the table {} takes more than 256 MiB", escape(name)));
  return read_up_to(*source, 0, source->size());
}

const Table* Database::table(const std::string& name) const {
  auto known = columns_.find(name);
  if (known == columns_.end()) return nullptr;
  std::lock_guard lock(mutex_);
  auto& held = read_[name];
  if (!held) held = std::make_unique<Table>(name, known->second, read_stream("!" + name), pool_);
  return held.get();
}

SourcePtr Database::stream(std::string_view name) const {
  auto found = streams_.find(name);
  return found == streams_.end() ? nullptr : file_.open(file_.nodes()[found->second]);
}

}  // namespace operculum::msi
