#include "report/compare_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"

namespace operculum {
namespace {

std::string sizes_text(const Difference& difference) {
  if (difference.before_size == Entry::kUnknownSize || difference.after_size == Entry::kUnknownSize)
    return "";
  if (difference.before_size == difference.after_size) return counted(difference.after_size, "byte", "bytes");
  return fmt::format("{} to {}", grouped(difference.before_size),
                     counted(difference.after_size, "byte", "bytes"));
}

std::string lines_text(const TextDiff& text) {
  if (text.only_line_ends) return "the same lines; their ends, or the encoding, differ";
  if (text.removed == 0) return counted(text.added, "line more", "lines more");
  if (text.added == 0) return counted(text.removed, "line fewer", "lines fewer");
  return fmt::format("{}, {}", counted(text.added, "new line", "new lines"),
                     counted(text.removed, "line gone", "lines gone"));
}

std::string bytes_text(const ByteDiff& bytes) {
  if (bytes.range_count == 0) {
    bool longer = bytes.after_size > bytes.before_size;
    return fmt::format("the same up to offset {:#x}; {} behind it {}",
                       std::min(bytes.before_size, bytes.after_size), longer ? "what lies" : "what lay",
                       longer ? "is new" : "is gone");
  }
  return fmt::format("{} in {}, the first at offset {:#x}",
                     bytes.differing == 1 ? "1 byte differs" : grouped(bytes.differing) + " bytes differ",
                     counted(bytes.range_count, "range", "ranges"), bytes.ranges.front().begin);
}

}  // namespace

std::vector<HexPair> hex_pairs(const ByteDiff& diff) {
  std::vector<HexPair> rows;
  auto row_of = [](const Bytes& bytes, std::size_t at) {
    return at < bytes.size() ? ByteView(bytes).subspan(at, std::min(kHexRow, bytes.size() - at)) : ByteView();
  };
  for (std::size_t at = 0; at < std::max(diff.before_bytes.size(), diff.after_bytes.size()); at += kHexRow)
    rows.push_back({diff.shown_at + at, row_of(diff.before_bytes, at), row_of(diff.after_bytes, at)});
  return rows;
}

std::string hex_digits(ByteView ours, ByteView theirs,
                       const std::function<std::string(const std::string& digits)>& mark) {
  std::string out;
  for (std::size_t i = 0; i < ours.size(); ++i) {
    bool other = i >= theirs.size() || ours[i] != theirs[i];
    std::string digits = fmt::format("{:02x}", ours[i]);
    out += (other ? mark(digits) : digits) + " ";
  }
  return out + std::string(3 * (kHexRow - ours.size()), ' ');
}

std::string difference_text(const Difference& difference) {
  std::vector<std::string> parts;
  auto add = [&](std::string text) {
    if (!text.empty()) parts.push_back(std::move(text));
  };
  add(printable(difference.message));
  bool file = difference.entry == EntryKind::file;
  switch (difference.kind) {
    case Difference::Kind::changed:
      if (file) add(sizes_text(difference));
      break;
    case Difference::Kind::moved:
    case Difference::Kind::added:
      if (file && difference.after_size != Entry::kUnknownSize)
        add(counted(difference.after_size, "byte", "bytes"));
      break;
    case Difference::Kind::removed:
      if (file && difference.before_size != Entry::kUnknownSize)
        add(counted(difference.before_size, "byte", "bytes"));
      break;
    default:
      break;
  }
  if (!file && difference.message.empty()) add(std::string(name_of(difference.entry)));
  if (difference.text) add(lines_text(*difference.text));
  if (difference.bytes) add(bytes_text(*difference.bytes));
  for (const MetadataChange& change : difference.metadata)
    add(fmt::format("{} {} to {}", change.what, change.before.empty() ? "none" : escape(change.before),
                    change.after.empty() ? "none" : escape(change.after)));
  return fmt::format("{}", fmt::join(parts, "; "));
}

std::string totals_text(const CompareTotals& totals) {
  std::string text = fmt::format("{} the same", grouped(totals.same));
  if (totals.metadata > 0) text += fmt::format(" ({} with other metadata)", grouped(totals.metadata));
  auto add = [&](std::uint64_t count, std::string_view word) {
    if (count > 0) text += fmt::format(", {} {}", grouped(count), word);
  };
  add(totals.changed, "changed");
  add(totals.moved, "moved");
  add(totals.added, "added");
  add(totals.removed, "removed");
  add(totals.unreadable, "unreadable");
  if (totals.order_differs) text += "; what both have stands in another order";
  return text;
}

}  // namespace operculum
