#include "format/archive/tar_pax.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/text.h"

namespace operculum::tar {

void read_pax(ByteView data, std::uint64_t offset, PaxRecords& records) {
  std::string_view rest = as_text(data);
  std::string sparse_map;  // "offset,length,..." from format 0.0
  while (!rest.empty() && rest[0] != '\0') {
    std::size_t blank = rest.find(' ');
    auto length = parse_number(rest.substr(0, std::min<std::size_t>(blank, 20)));
    std::size_t at = data.size() - rest.size();
    if (!length || *length > rest.size() || *length < blank + 3 || rest[*length - 1] != '\n') {
      throw Malformed(fmt::format("pax record at offset {}: expected \"LENGTH KEYWORD=VALUE\" and a line end",
                                  offset + at));
    }
    std::string_view record = rest.substr(blank + 1, *length - blank - 2);
    rest.remove_prefix(*length);
    std::size_t equals = record.find('=');
    if (equals == std::string_view::npos) {
      throw Malformed(fmt::format("pax record at offset {}: expected \"=\" behind the keyword", offset + at));
    }
    std::string_view keyword = record.substr(0, equals), value = record.substr(equals + 1);
    if (keyword == "GNU.sparse.offset" || keyword == "GNU.sparse.numbytes") {
      if (!sparse_map.empty()) sparse_map += ',';
      sparse_map += value;
    } else {
      records.insert_or_assign(std::string(keyword), std::string(value));
    }
  }
  if (!sparse_map.empty()) records.insert_or_assign("GNU.sparse.map", sparse_map);
}

const std::string* find(const PaxScope& scope, std::string_view keyword) {
  for (const PaxRecords* records : {&scope.own, &scope.global}) {
    auto found = records->find(keyword);
    if (found != records->end()) return found->second.empty() ? nullptr : &found->second;
  }
  return nullptr;
}

std::uint64_t pax_number(const std::string& keyword, std::string_view value) {
  auto number = parse_number(value);
  if (!number) {
    throw Malformed(
        fmt::format("pax record \"{}\": expected a decimal number, found \"{}\"", keyword, escape(value)));
  }
  return *number;
}

Timestamp pax_time(std::string_view value) {
  bool negative = value.starts_with('-');
  if (negative) value.remove_prefix(1);
  std::size_t dot = value.find('.');
  auto whole = parse_number(value.substr(0, dot));
  if (!whole || *whole > INT64_MAX / 2) return {};
  std::uint64_t nanoseconds = 0;
  if (dot != std::string_view::npos) {
    std::string digits(value.substr(dot + 1, 9));
    digits.resize(9, '0');
    nanoseconds = parse_number(digits).value_or(0);
  }
  auto seconds = static_cast<std::int64_t>(*whole);
  if (!negative) return from_unix(seconds, static_cast<std::uint32_t>(nanoseconds));
  if (nanoseconds == 0) return from_unix(-seconds);
  return from_unix(-seconds - 1, static_cast<std::uint32_t>(1'000'000'000 - nanoseconds));
}

std::vector<Extent> parse_sparse_map(std::string_view map) {
  std::vector<std::string_view> numbers = split(map, ',');
  if (numbers.size() % 2 != 0) throw Malformed("sparse map: expected pairs of offset and length");
  std::vector<Extent> extents;
  std::uint64_t stored = 0;
  for (std::size_t i = 0; i < numbers.size(); i += 2) {
    std::uint64_t length = pax_number("GNU.sparse.map", numbers[i + 1]);
    extents.push_back({pax_number("GNU.sparse.map", numbers[i]), stored, length});
    stored = checked_add(stored, length, "a sparse map");
  }
  return extents;
}

}  // namespace operculum::tar
