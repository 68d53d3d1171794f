#include "cli/entry_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "report/records.h"
#include "report/text_table.h"

namespace operculum::cli {
namespace {

using Align = TextTable::Align;

constexpr std::string_view kTitles[] = {"size", "stored", "method", "time", "flags",
                                        "mode", "owner",  "kind",   "path"};

std::string size_text(std::uint64_t bytes, bool human) {
  if (bytes == Entry::kUnknownSize) return "?";
  return human ? human_size(bytes) : grouped(bytes);
}

/// A letter a flag: e encrypted, s sparse, d damaged, r recovered; F folder, L link, H hard link, D device.
std::string flag_letters(const Entry& entry) {
  static constexpr std::string_view kKinds[] = {"", "F", "L", "H", "D", "D", "D", "D"};  // as EntryKind
  std::string letters(kKinds[static_cast<std::size_t>(entry.kind)]);
  for (std::string_view word : flag_words(entry)) letters += word[0];
  return letters.empty() ? "-" : letters;
}

std::string shown_path(const Found& found) {
  std::string path = escape(found.path);
  if (found.entry.kind == EntryKind::folder) path += '/';
  if (found.format.family == "partition table" && found.entry.extra) {
    path += fmt::format("  {}", escape(found.entry.extra->type_tag));
    if (!found.entry.extra->comment.empty())
      path += fmt::format(" \"{}\"", escape(found.entry.extra->comment));
  }
  if (!found.entry.link_target().empty()) path += fmt::format(" -> {}", escape(found.entry.link_target()));
  return path;
}

std::string owner_text(const Entry& entry) {
  if (!entry.extra) return "-";
  const EntryExtra& extra = *entry.extra;
  std::string user = extra.owner.empty() ? std::to_string(extra.user_id) : escape(extra.owner);
  std::string group = extra.group.empty() ? std::to_string(extra.group_id) : escape(extra.group);
  return user + ":" + group;
}

/// Seconds are for those who ask for everything.
std::string time_text(const Timestamp& time, bool full) {
  constexpr std::size_t kToMinutes = 16;  // "2026-03-01 14:05"
  std::string text = to_text(time);
  return full || text.size() <= kToMinutes ? text : text.substr(0, kToMinutes);
}

}  // namespace

EntryTable::Row EntryTable::row_of(const Found& found) const {
  const Entry& entry = found.entry;
  bool data = entry.has_data();
  Row row;
  row[size] = data ? size_text(entry.size, form_.human) : "-";
  row[stored] = data ? size_text(entry.stored_size, form_.human) : "-";
  row[method] = data ? std::string(entry.method) : "-";
  row[time] = time_text(entry.modified, form_.full);
  row[flags] = flag_letters(entry);
  row[mode] = entry.mode == Entry::kNoMode ? "-" : fmt::format("{:04o}", entry.mode);
  row[owner] = form_.full ? owner_text(entry) : "";
  row[kind] = data ? std::string(found.kind) : "-";
  row[path] = shown_path(found);
  return row;
}

void EntryTable::add(const Found& found) {
  if (chosen_) return write(row_of(found));
  kept_.push_back(row_of(found));
  kept_bytes_ += kept_.back()[path].size();
  if (kept_.size() == kKept || kept_bytes_ > kKeptBytes) write_kept(false);
}

void EntryTable::finish() {
  if (!chosen_ && !kept_.empty()) write_kept(true);
}

/// Of an incomplete listing nothing is left out: what comes may say something.
void EntryTable::choose_columns(bool complete) {
  auto says = [&](Column column, auto test) {
    return !complete || form_.full || std::any_of(kept_.begin(), kept_.end(), test) || column == path;
  };
  auto differs = [&](Column column) {
    return says(column, [&, column](const Row& row) {
      return row[column] != "-" && row[column] != kept_.front()[column];
    });
  };
  shown_[size] = shown_[path] = true;
  shown_[stored] = says(stored, [](const Row& row) { return row[stored] != row[size]; });
  shown_[method] = says(method, [](const Row& row) { return row[method] != "-" && row[method] != "stored"; });
  shown_[time] = says(time, [](const Row& row) { return row[time] != "-" && !row[time].empty(); });
  shown_[flags] = differs(flags) || says(flags, [](const Row& row) { return row[flags] != "-"; });
  shown_[mode] = shown_[owner] = form_.full;
  shown_[kind] = form_.kinds;
  for (std::size_t i = 0; i < column_count; ++i) {
    widths_[i] = kTitles[i].size();
    for (const Row& row : kept_) widths_[i] = std::max(widths_[i], display_width(row[i]));
  }
  constexpr std::size_t kRoom = 13;  // for sizes that are still to come
  if (!complete) widths_[size] = widths_[stored] = std::max({widths_[size], widths_[stored], kRoom});
}

void EntryTable::write_kept(bool complete) {
  chosen_ = true;
  choose_columns(complete);
  std::string head;
  for (std::size_t i = 0; i < path; ++i) {
    if (shown_[i])
      head += padded(std::string(kTitles[i]), widths_[i], i <= stored ? Align::right : Align::left) + "  ";
  }
  session_.data.write(
      styled(head + std::string(kTitles[path]), "1", session_.output.empty() && colour_wanted(1)) +
      Shown("\n"));
  for (const Row& row : kept_) write(row);
  kept_.clear();
  kept_.shrink_to_fit();
}

void EntryTable::write(const Row& row) {
  std::string line;
  for (std::size_t i = 0; i < path; ++i) {
    if (shown_[i]) line += padded(row[i], widths_[i], i <= stored ? Align::right : Align::left) + "  ";
  }
  session_.data.write(Shown::made(line + row[path] + "\n"));
}

}  // namespace operculum::cli
