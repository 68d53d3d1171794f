#include "collection/sameness.h"

#include "io/compare.h"

namespace operculum {
namespace {

bool is_device(EntryKind kind) {
  return kind == EntryKind::character_device || kind == EntryKind::block_device;
}

/// Of things without data.
bool same_thing(const Entry& a, const Entry& b) {
  if (a.link_target() != b.link_target()) return false;
  if (!is_device(a.kind)) return true;
  return a.extra && b.extra && a.extra->device_major == b.extra->device_major &&
         a.extra->device_minor == b.extra->device_minor;
}

Verdict verdict_of(bool same) {
  return same ? Verdict::same : Verdict::changed;
}

}  // namespace

std::optional<Verdict> verdict_at_sight(const Item& before, const Item& after, const Sides& sides) {
  const Entry &a = *before.entry, &b = *after.entry;
  if (a.kind != b.kind) return Verdict::changed;
  if (!a.has_data()) return verdict_of(same_thing(a, b));
  if (a.size_known() && b.size_known() && a.size != b.size) return Verdict::changed;
  if (!before.error.empty() || !after.error.empty()) return Verdict::unreadable;
  if (!before.sha256.empty() && !after.sha256.empty()) return verdict_of(before.sha256 == after.sha256);
  if (!sides.by_content && before.crc32 && after.crc32) return verdict_of(before.crc32 == after.crc32);
  return std::nullopt;
}

Verdict verdict_by_bytes(Item& before, Item& after, const Sides& sides, const Reading& reading) {
  bool with_crc = !sides.by_content && (before.crc32 || after.crc32);
  Sums sums = with_crc ? Sums::crc32 : Sums::sha256;
  auto has = [&](const Item& item) { return with_crc ? item.crc32.has_value() : !item.sha256.empty(); };
  if (!has(before)) sums_of(sides.before, before, sums, reading);
  if (before.error.empty() && !has(after)) sums_of(sides.after, after, sums, reading);
  if (!before.error.empty() || !after.error.empty()) return Verdict::unreadable;
  return verdict_of(with_crc ? before.crc32 == after.crc32 : before.sha256 == after.sha256);
}

}  // namespace operculum
