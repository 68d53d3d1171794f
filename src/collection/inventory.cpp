#include "collection/inventory.h"

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "io/digest.h"
#include "task/selection.h"

namespace operculum {
namespace {

/// A path beneath `inside`; nothing when it is not beneath it. What is named itself has its last part.
std::optional<std::string_view> beneath(std::string_view path, std::string_view inside) {
  if (!lies_in(path, inside)) return std::nullopt;
  if (inside.empty()) return path;
  return path.size() == inside.size() ? base_name(path) : path.substr(inside.size() + 1);
}

void note_error(Item& item, const std::exception& thrown) {
  Error error = as_error(thrown);
  item.error = error.what();
  item.key_needed = error.kind() == ErrorKind::needs_key;
}

}  // namespace

Inventory::Inventory(const Place& place, const Reading& reading) {
  if (!place.is_container()) {
    single_ = place.content;
    if (place.entry) {
      kept_.push_back(copy_of(*place.entry));
    } else {
      kept_.emplace_back().size = place.file_source->size();
    }
    add(kept_.back(), 0, "");
    items.back().path = place.name;
    return;
  }
  const Layer& layer = place.layers.back();
  format_ = layer.format;
  container_ = layer.container;
  if (container_->access() == Access::random) {
    list_random(place.inside);
  } else {
    list_forward(place.inside, reading);
  }
  if (format_->later_replaces) drop_replaced();
  follow_hard_links();
}

void Inventory::list_random(const std::string& inside) {
  std::span<const Entry> entries = container_->entries();
  for (std::size_t i = 0; i < entries.size(); ++i) add(entries[i], i, inside);
}

void Inventory::list_forward(const std::string& inside, const Reading& reading) {
  container_->walk([&](const Visit& visit) {
    if (reading.progress.stop) return false;
    if (!beneath(visit.entry.path, inside)) return true;
    reading.context.limits.count_kept(visit.entry);
    add(kept_.emplace_back(copy_of(visit.entry)), visit.index, inside);
    if (visit.stream != nullptr && visit.entry.has_data())
      take_sums(items.back(), *visit.stream, Sums::both, reading);
    return true;
  });
}

void Inventory::add(const Entry& entry, std::size_t index, const std::string& inside) {
  auto path = beneath(entry.path, inside);
  if (!path) return;
  Item item{std::string(*path), &entry, index};
  if (entry.is(Entry::has_crc) && entry.has_data()) item.crc32 = entry.crc32;
  items.push_back(std::move(item));
}

void Inventory::drop_replaced() {
  std::unordered_map<std::string_view, std::size_t> last;
  for (std::size_t i = 0; i < items.size(); ++i) last[items[i].path] = i;
  if (last.size() == items.size()) return;
  std::vector<Item> kept;
  for (std::size_t i = 0; i < items.size(); ++i) {
    if (last[items[i].path] == i) kept.push_back(items[i]);
  }
  items = std::move(kept);
}

/// A second name is as good as the first: which of the two a container calls the link says nothing.
void Inventory::follow_hard_links() {
  std::unordered_map<std::string_view, const Item*> files;
  bool any = false;
  for (const Item& item : items) {
    if (item.is_file()) files.emplace(item.entry->path, &item);
    any |= item.entry->kind == EntryKind::hard_link;
  }
  if (!any) return;
  for (Item& item : items) {
    if (item.entry->kind != EntryKind::hard_link) continue;
    auto target = files.find(item.entry->link_target());
    if (target == files.end()) continue;
    std::string path = std::move(item.path);
    item = *target->second;
    item.path = std::move(path);
  }
}

void Inventory::keep(const std::function<bool(const Item&)>& wanted, OpenContext& context) {
  if (single_ || container_->access() == Access::random) return;
  std::unordered_set<std::size_t> indexes;
  for (const Item& item : items) {
    if (item.is_file() && wanted(item)) indexes.insert(item.index);
  }
  solid_.reset();
  if (!indexes.empty())
    solid_.emplace(*container_, context.spool, [&](std::size_t index) { return indexes.contains(index); });
}

ContentPtr Inventory::content(const Item& item) const {
  if (single_) return single_;
  if (container_->access() == Access::random) return container_->content(item.index);
  if (!solid_) throw Malformed("its data was not kept");
  return solid_->content(item.index);
}

void take_sums(Item& item, Stream& stream, Sums sums, const Reading& reading) {
  try {
    StreamSums taken = sums_of_stream(stream, sums, [&](std::uint64_t count) {
      reading.meter.add(count);
      reading.progress.bytes += count;
    });
    if (taken.crc32) item.crc32 = taken.crc32;
    if (!taken.sha256.empty()) item.sha256 = std::move(taken.sha256);
  } catch (const GuardTripped&) {
    throw;
  } catch (const std::exception& thrown) {
    note_error(item, thrown);
  }
}

void sums_of(const Inventory& side, Item& item, Sums sums, const Reading& reading) {
  StreamPtr stream;
  try {
    stream = side.content(item)->stream();
  } catch (const GuardTripped&) {
    throw;
  } catch (const std::exception& thrown) {
    return note_error(item, thrown);
  }
  take_sums(item, *stream, sums, reading);
}

}  // namespace operculum
