#include "task/rebuild_layers.h"

#include <fmt/format.h>

#include <tuple>

#include "base/error.h"
#include "base/path_parts.h"
#include "base/text.h"
#include "base/units.h"
#include "container/parts.h"
#include "container/trim.h"
#include "task/patch.h"

namespace operculum {
namespace {

/// Whether two entries of one path, seen in two ways, are the same one.
bool same_entry(const Entry& a, const Entry& b) {
  return std::tie(a.stored_at, a.stored_size, a.size, a.crc32) ==
             std::tie(b.stored_at, b.stored_size, b.size, b.crc32) &&
         a.modified == b.modified;
}

/// Where an entry that leads inwards stands among those that are written.
std::size_t index_of(Container& container, const Entry& entry) {
  std::span<const Entry> all = container.entries();
  std::optional<std::size_t> same_path;
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (all[i].path != entry.path) continue;
    if (same_entry(all[i], entry)) return i;
    same_path = i;
  }
  if (!same_path) {
    throw Unsupported(
        fmt::format("writing \"{}\" where it is shown here; name it as the file holds it (--view stored)",
                    escape(entry.path)));
  }
  return *same_path;
}

/// Whether this layer's change is one file in the place of another of the same size.
const NewEntry* single_replacement(const Changes& changes) {
  bool single = changes.replaced.size() == 1 && changes.removed.empty() && changes.renamed.empty() &&
                changes.added.empty();
  return single ? &changes.replaced.begin()->second : nullptr;
}

/// One file in the place of another of the same size, where its bytes lie as they are.
std::optional<Assembly> patched_layer(const RebuildLayer& layer, const Changes& changes) {
  const NewEntry* entry = single_replacement(changes);
  if (entry == nullptr || entry->kind != EntryKind::file) return std::nullopt;
  std::size_t index = changes.replaced.begin()->first;
  if (layer.container->entries()[index].size != entry->size) return std::nullopt;
  SourcePtr before = layer.container->content(index)->source(), after = entry->content->source();
  if (!before || !after || before->size() != after->size()) return std::nullopt;
  return patched(layer.source, *before, after);
}

/// Says what can be written where a format is not written otherwise.
[[noreturn]] void refuse(const RebuildLayer& layer, const Changes& changes) {
  std::string what = "writing " + with_article(layer.format->name);
  if (const NewEntry* entry = single_replacement(changes)) {
    const Entry& old = layer.container->entries()[changes.replaced.begin()->first];
    if (old.size != entry->size) {
      throw Unsupported(
          fmt::format("{}, except for a file of the same size in its place: \"{}\" has {} bytes, the "
                      "new one {}",
                      what, escape(old.path), old.size, entry->size));
    }
  }
  throw Unsupported(what);
}

Assembly rewritten(const RebuildLayer& layer, const Changes& changes, const Writing& writing) {
  try {
    return layer.container->rewrite(changes, writing);
  } catch (const Unsupported& reason) {
    try {
      if (auto made = patched_layer(layer, changes)) return *std::move(made);
    } catch (const Unsupported&) {
      if (layer.format->writes.empty()) throw;
      throw Unsupported(reason);  // which tells more
    }
    if (layer.format->writes.empty()) refuse(layer, changes);
    throw;
  }
}

}  // namespace

RebuildLayer prepare_layer(const Layer& layer, OpenContext& context, Beside sibling) {
  RebuildLayer out{layer.format, nullptr, layer.container, layer.content->source(), layer.name, 0};
  if (!out.source || out.source->costly()) {
    out.source = spool(*layer.content->stream(), context.spool);  // decoded once, however often it is read
    out.shown = layer.format->open({make_content(out.source), layer.name, sibling}, context);
  }
  out.sibling = std::move(sibling);
  out.container = out.shown->written_as();
  return out;
}

std::vector<RebuildLayer> prepare_layers(const Place& place, OpenContext& context) {
  std::vector<RebuildLayer> out;
  for (const Layer& layer : place.layers) {
    std::size_t index = 0;
    Beside sibling;
    if (out.empty()) {
      if (!place.file.empty()) sibling = file_sibling(place.file);
    } else if (layer.entry) {
      ContainerPtr around = out.back().container;
      index = index_of(*around, *layer.entry);
      sibling = entry_sibling(around, around->entries()[index].path, context);
    }
    out.push_back(prepare_layer(layer, context, std::move(sibling)));
    out.back().index = index;
  }
  return out;
}

std::optional<PlannedLayer> plan_changes(const RebuildLayer& layer, Changes changes, const Writing& writing) {
  if (changes.empty()) return std::nullopt;
  PlannedLayer plan;
  plan.changes = std::move(changes);
  Writing with = writing;
  if (layer.sibling) with.beside = [&](FileBeside file) { plan.beside.push_back(std::move(file)); };
  plan.result = rewritten(layer, plan.changes, with);
  plan.source = plan.result.source();
  return plan;
}

std::optional<PlannedLayer> plan_trim(const RebuildLayer& layer, std::optional<PlannedLayer> plan,
                                      OpenContext& context) {
  ContainerPtr container = layer.container;
  if (plan) container = layer.format->open({make_content(plan->source), layer.name}, context)->written_as();
  auto trimmed = container->trimmed(Look::whole);
  if (!trimmed) return plan;
  if (plan && !trimmed->gone.empty()) throw Unsupported("other changes together with trimming here");
  if (!plan) plan.emplace();
  plan->trimmed = true;
  plan->changes.removed.insert(trimmed->gone.begin(), trimmed->gone.end());
  plan->result = std::move(trimmed->result);
  plan->source = plan->result.source();
  return plan;
}

std::vector<PlannedLayer> plan_layers(const std::vector<RebuildLayer>& layers,
                                      std::optional<PlannedLayer> innermost, const Writing& writing,
                                      const MoreChanges& more) {
  std::vector<PlannedLayer> out(layers.size());
  if (!innermost) {  // then nothing around it changes, either
    for (std::size_t i = 0; i < layers.size(); ++i) {
      out[i].result.add(layers[i].source);
      out[i].source = layers[i].source;
    }
    return out;
  }
  out.back() = *std::move(innermost);
  for (std::size_t i = layers.size() - 1; i > 0; --i) {
    NewEntry around;
    around.path = layers[i - 1].container->entries()[layers[i].index].path;
    around.size = out[i].source->size();
    around.content = make_content(out[i].source);
    Changes changes;
    for (const FileBeside& one : out[i].beside) {
      if (!one.changed) continue;
      std::span<const Entry> entries = layers[i - 1].container->entries();
      auto index = entry_beside(entries, around.path, one.name);
      if (!index)
        throw Unsupported(fmt::format("changing \"{}\", which is not among the entries",
                                      escape(std::string(folder_part(around.path)) + one.name)));
      NewEntry file;
      file.path = entries[*index].path;
      file.size = one.bytes->size();
      file.content = make_content(one.bytes);
      if (writing.note)
        writing.note(file.path, "changes with \"" + escape(around.path) + "\", whose data it has");
      changes.replaced.emplace(*index, std::move(file));
    }
    changes.replaced.emplace(layers[i].index, std::move(around));
    if (more) more(i - 1, changes);
    out[i - 1] = *plan_changes(layers[i - 1], std::move(changes), writing);
  }
  return out;
}

}  // namespace operculum
