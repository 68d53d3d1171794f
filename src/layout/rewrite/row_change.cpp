#include "layout/rewrite/row_change.h"

#include <algorithm>

#include "base/text.h"
#include "layout/rewrite/number_writer.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kMostRow = 1 << 16;  // bytes of a row in which a name is looked for

/// A row of a table that has one for each entry.
struct Row {
  const ListSeen* list;
  std::size_t number;
  std::uint64_t begin, end;
};

std::vector<Row> rows_of(const Survey& survey, std::size_t index) {
  std::vector<Row> out;
  std::size_t count = survey.container->entries().size();
  for (const ListSeen& list : survey.head.lists) {
    if (list.begins.size() != count) continue;
    std::uint64_t end = index + 1 < count ? list.begins[index + 1] : list.end;
    out.push_back({&list, index, list.begins[index], end});
  }
  return out;
}

/// The number that tells how many rows a table has: the last one in front of it with that value.
std::optional<NumberRead> count_of(const Survey& survey, const ListSeen& list) {
  const NumberRead* found =
      survey.finder.last_equal(static_cast<std::int64_t>(list.begins.size()), list.numbers);
  return found == nullptr ? std::nullopt : std::optional(*found);
}

/// What lies behind a table and may have to stay where it is.
std::optional<std::uint64_t> start_behind(const Survey& survey, std::uint64_t at) {
  std::optional<std::uint64_t> next;
  auto take = [&](std::uint64_t start) {
    if (start >= at && (!next || start < *next)) next = start;
  };
  for (const Extent& extent : survey.extents) {
    if (extent.there && extent.length > 0) take(extent.at);
  }
  for (const PlacedAt& placed : survey.head.placed) take(placed.position);
  return next;
}

/// The same change, with what follows the table moved, and kept where it is.
void add_both(std::vector<RowChange>& out, const RowChange& change, const Survey& survey,
              const ListSeen& list) {
  bool grows = change.with.size() != change.to - change.from;
  if (auto rest = grows ? start_behind(survey, list.end) : std::nullopt) {
    out.push_back(change);
    out.back().rest_at = rest;
  }
  out.push_back(change);
}

/// How a row may hold an entry's path.
struct Name {
  Bytes before, after;
  std::size_t units;  // bytes of a letter
};

Bytes wide(const std::string& text) {
  std::string units = from_utf8(text, "UTF-16LE").value_or("");
  return {units.begin(), units.end()};
}

std::vector<Name> names_for(const std::string& before, const std::string& after) {
  auto turned = [](std::string text) {
    std::replace(text.begin(), text.end(), '/', '\\');
    return text;
  };
  std::vector<std::pair<std::string, std::string>> texts = {{before, after}};
  if (before.find('/') != std::string::npos || after.find('/') != std::string::npos)
    texts.emplace_back(turned(before), turned(after));
  std::string old_name(base_name(before)), new_name(base_name(after));
  bool same_folder =
      before.substr(0, before.size() - old_name.size()) == after.substr(0, after.size() - new_name.size());
  if (same_folder && old_name != before) texts.emplace_back(old_name, new_name);
  std::vector<Name> out;
  for (const auto& [one, other] : texts) {
    out.push_back({Bytes(one.begin(), one.end()), Bytes(other.begin(), other.end()), 1});
    out.push_back({wide(one), wide(other), 2});
  }
  return out;
}

/// A name within a row, and what it may be changed to.
struct NameEdit {
  std::size_t at, length;  // bytes of the row that become others
  Bytes with;
  std::optional<NumberRead> number;  // that tells how long it is
  std::int64_t change = 0;
};

/// Where fields are filled up to a fixed size: the same number of bytes, filled up as they were.
std::optional<NameEdit> within_field(ByteView row, std::size_t at, const Name& name) {
  std::size_t end = at + name.before.size();
  Byte filler = end < row.size() && row[end] == ' ' ? Byte{' '} : Byte{0};
  std::size_t length = std::max(name.before.size(), name.after.size());
  if (at + length > row.size()) return std::nullopt;
  for (std::size_t i = end; i < at + length; ++i) {
    if (row[i] != filler) return std::nullopt;
  }
  Bytes with = name.after;
  with.resize(length, filler);
  return NameEdit{at, length, std::move(with), std::nullopt};
}

std::vector<NameEdit> name_edits(const Survey& survey, const Row& row, ByteView bytes,
                                 const std::string& before, const std::string& after) {
  std::vector<NameEdit> out;
  for (const Name& name : names_for(before, after)) {
    if (name.before.empty()) continue;
    for (auto found = bytes.begin();; ++found) {
      found = std::search(found, bytes.end(), name.before.begin(), name.before.end());
      if (found == bytes.end()) break;
      auto at = static_cast<std::size_t>(found - bytes.begin());
      auto delta =
          static_cast<std::int64_t>(name.after.size()) - static_cast<std::int64_t>(name.before.size());
      for (std::size_t unit : {std::size_t{1}, name.units}) {  // its length in bytes, or in letters
        auto told = static_cast<std::int64_t>(name.before.size() / unit);
        for (const NumberRead& read : survey.head.numbers) {
          bool in_front = read.at >= row.begin && read.at + read.width <= row.begin + at;
          if (in_front && read.value == told && delta != 0)
            out.push_back(
                {at, name.before.size(), name.after, read, delta / static_cast<std::int64_t>(unit)});
        }
      }
      if (auto filled = within_field(bytes, at, name)) out.push_back(*std::move(filled));
      out.push_back({at, name.before.size(), name.after, std::nullopt});
    }
  }
  return out;
}

Bytes bytes_of(const Survey& survey, const Row& row) {
  return read_up_to(*survey.file.source, row.begin, std::min<std::uint64_t>(row.end - row.begin, kMostRow));
}

}  // namespace

std::vector<RowChange> ways_to_remove(const Survey& survey, std::size_t index) {
  std::vector<RowChange> out;
  for (const Row& row : rows_of(survey, index)) {
    RowChange change{RowChange::Kind::removed,    index, row.begin, row.end, {},
                     count_of(survey, *row.list), -1};
    add_both(out, change, survey, *row.list);
  }
  return out;
}

std::vector<RowChange> ways_to_rename(const Survey& survey, std::size_t index, const std::string& path) {
  std::vector<RowChange> out;
  const std::string& before = survey.container->entries()[index].path;
  for (const Row& row : rows_of(survey, index)) {
    for (NameEdit& edit : name_edits(survey, row, bytes_of(survey, row), before, path)) {
      RowChange change{
          RowChange::Kind::renamed, index,       row.begin + edit.at, row.begin + edit.at + edit.length,
          std::move(edit.with),     edit.number, edit.change};
      change.path = path;
      add_both(out, change, survey, *row.list);
    }
  }
  return out;
}

std::vector<RowChange> ways_to_add(const Survey& survey, std::size_t like, const std::string& path) {
  std::vector<RowChange> out;
  std::span<const Entry> entries = survey.container->entries();
  bool sorted = std::is_sorted(entries.begin(), entries.end(),
                               [](const Entry& a, const Entry& b) { return a.path < b.path; });
  std::size_t number = entries.size();
  if (sorted) {
    number = static_cast<std::size_t>(
        std::find_if(entries.begin(), entries.end(), [&](const Entry& one) { return path < one.path; }) -
        entries.begin());
  }
  for (const Row& row : rows_of(survey, like)) {
    if (row.end - row.begin > kMostRow) continue;
    Bytes bytes = bytes_of(survey, row);
    std::uint64_t at = number < entries.size() ? row.list->begins[number] : row.list->end;
    for (const NameEdit& edit : name_edits(survey, row, bytes, entries[like].path, path)) {
      Bytes with = bytes;
      if (edit.number) {
        auto told = bytes_for(*edit.number, edit.number->value + edit.change, *survey.file.source);
        if (!told) continue;
        std::copy(told->begin(), told->end(),
                  with.begin() + static_cast<std::ptrdiff_t>(edit.number->at - row.begin));
      }
      auto begin = with.begin() + static_cast<std::ptrdiff_t>(edit.at);
      begin = with.erase(begin, begin + static_cast<std::ptrdiff_t>(edit.length));
      with.insert(begin, edit.with.begin(), edit.with.end());
      RowChange change{RowChange::Kind::added, like, at, at, std::move(with), count_of(survey, *row.list), 1};
      change.path = path;
      add_both(out, change, survey, *row.list);
    }
  }
  return out;
}

}  // namespace operculum::layout
