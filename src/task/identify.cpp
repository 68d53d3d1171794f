#include "task/identify.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/path_parts.h"
#include "base/text.h"
#include "base/units.h"
#include "container/identify.h"
#include "container/open.h"
#include "container/trim.h"
#include "io/origin.h"
#include "task/entering.h"
#include "task/kinds.h"
#include "task/volume_facts.h"

namespace operculum {
namespace {

/// Solid layers up to this stored size, in bytes, are decoded to count their entries without being asked.
constexpr std::uint64_t kCountWithoutAsking = 16 << 20;

/// Entries of an executable that are looked at for containers.
constexpr std::size_t kCarriedLookedAt = 1000;

void look_at_file(const Entry& entry, IdentifiedLayer& out) {
  out.encrypted += entry.is(Entry::encrypted) ? 1 : 0;
  if (!entry.size_known()) {
    out.sizes_known = false;
  } else if (entry.size >= out.largest_bytes) {
    out.largest = entry.path;
    out.largest_bytes = entry.size;
  }
}

/// What `rebuild --trim` would save, where that is worth a word.
void tell_filling(Container& container, std::uint64_t size, IdentifiedLayer& out) {
  constexpr std::uint64_t kMuch = 1 << 20, kShare = 8;
  try {
    auto trimmed = container.trimmed(Look::samples);
    std::uint64_t saved = trimmed ? size - trimmed->result.size() : 0;
    if (saved < kMuch && saved < size / kShare) return;
    if (saved > 0)
      out.facts.emplace_back("filling",
                             fmt::format("{} that rebuild --trim would leave out", human_size(saved)));
  } catch (const Error&) {
    return;  // damaged, or not written in this form
  }
}

IdentifiedLayer look(const Layer& layer, bool count) {
  IdentifiedLayer out;
  out.format = layer.format;
  out.name = layer.name;
  out.stored_size = layer.stored_size;
  if (count) {
    out.counts.emplace();
    layer.container->each(Detail::all, [&](const Entry& entry) {
      out.counts->add(entry);
      if (entry.kind == EntryKind::file) look_at_file(entry, out);
    });
  }
  out.facts = layer.container->facts();
  if (count && layer.content) {
    if (SourcePtr bytes = layer.content->source(); bytes && !bytes->costly())
      tell_filling(*layer.container, bytes->size(), out);
  }
  out.findings = layer.container->findings();
  return out;
}

/// The structures by which the layer's format is known; of those that are not there, nothing.
std::vector<IdentifiedRecord> records_of(const Layer& layer) {
  std::vector<IdentifiedRecord> records;
  if (!layer.content || layer.format->records.empty()) return records;
  Probe probe = make_probe(*layer.content, layer.name);
  for (const KnownRecord& known : layer.format->records) {
    PlacedFields found = known.find(probe);
    if (!found.rows.empty()) records.push_back({known.name, found.at, std::move(found.rows)});
  }
  return records;
}

Finding locked(const NeedsKey& error) {
  return {Finding::Level::note, fmt::format("what is in it cannot be told: {}", error.what())};
}

/// Goes down through what holds one thing only, such as an encrypted volume.
void look_into_part(ContentPtr content, IdentifiedPart& part, OpenContext& context) {
  for (std::uint64_t depth = 0; depth < context.limits.max_depth; ++depth) {
    Opened inner = open_container({content, part.path}, context);
    if (!inner.container) return;
    part.format += part.format.empty() ? std::string(inner.format->name)
                                       : fmt::format(", holding {}", with_article(inner.format->name));
    for (auto& [name, value] : inner.container->facts())
      part.facts.emplace_back(std::move(name), std::move(value));
    for (Finding& finding : inner.container->findings()) part.findings.push_back(std::move(finding));
    if (!inner.format->single_stream) return;
    content = inner.container->content(0);
  }
}

/// What is in each partition: only the front of each is looked at.
std::vector<IdentifiedPart> look_at_parts(const Layer& layer, OpenContext& context) {
  std::vector<IdentifiedPart> parts;
  std::span<const Entry> entries = layer.container->entries();
  for (std::size_t i = 0; i < entries.size(); ++i) {
    IdentifiedPart part;
    part.path = entries[i].path;
    part.size = entries[i].size;
    if (entries[i].extra) {
      part.name = entries[i].extra->comment;
      part.type = entries[i].extra->type_tag;
    }
    try {
      look_into_part(layer.container->content(i), part, context);
    } catch (const NeedsKey& error) {
      part.findings.push_back(locked(error));
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      part.findings.push_back({Finding::Level::fault, error.what()});
    }
    parts.push_back(std::move(part));
  }
  return parts;
}

std::string ending_of(const std::string& name) {
  std::size_t dot = name.rfind('.');
  if (dot == std::string::npos || dot == 0) return "";
  std::string ending = to_lower(name.substr(dot));
  // "-6.1.0-amd64" is a version, no ending.
  bool letters = ending.size() > 1 &&
                 std::all_of(ending.begin() + 1, ending.end(), [](char c) { return c != '-' && c != '_'; });
  return letters ? ending : "";
}

/// Endings that anybody gives to anything: they claim nothing.
bool is_general(std::string_view ending) {
  constexpr std::string_view kGeneral[] = {".bin",  ".bundle", ".cfg",   ".dat", ".data", ".db",  ".dd",
                                           ".dump", ".fs",     ".image", ".img", ".iso",  ".map", ".mod",
                                           ".pak",  ".part",   ".pkg",   ".raw", ".res",  ".rom", ".run",
                                           ".sys",  ".fw",     ".disk",  ".sh",  ".doc",  ".fd"};
  return std::find(std::begin(kGeneral), std::end(kGeneral), ending) != std::end(kGeneral);
}

/// What the name claims against what the bytes are.
void check_name(const Place& place, const OpenContext& context, Identification& out) {
  std::string ending = ending_of(place.name);
  if (ending.empty()) return;
  const Format* claimed = is_general(ending) ? nullptr : format_for_name(place.name, &context);
  if (place.layers.empty()) {
    if (claimed != nullptr) {
      out.findings.push_back(
          {Finding::Level::warning,
           fmt::format("named {}, but it is not {}: its content is {}; renaming a file does not "
                       "convert it",
                       ending, with_article(claimed->name), out.media_type)});
    }
    return;
  }
  const Format* real = place.layers.front().format;
  if (claimed == real || name_fits(*real, place.name) || is_general(ending)) return;
  bool warn = claimed != nullptr;
  std::string means = warn ? fmt::format("not {}, and no renaming is needed to unpack it as it is",
                                         with_article(claimed->name))
                           : std::string("no renaming needed, unpack it as it is");
  out.findings.push_back({warn ? Finding::Level::warning : Finding::Level::note,
                          fmt::format("named {}; it is {}: {}", ending, with_article(real->name), means)});
}

/// Images of discs and disks have such sizes by nature.
bool is_image(const Identification& out) {
  if (out.layers.empty()) return false;
  const Format& format = *out.layers.front().format;
  return format.family == "file system" || holds_parts(format);
}

void check_size(Identification& out) {
  if (out.size == 0) {
    out.findings.push_back({Finding::Level::warning, "the file is empty"});
  } else if ((out.size & (out.size - 1)) == 0 && out.size >= 64 * 1024 && !is_image(out)) {
    out.findings.push_back(
        {Finding::Level::note,
         fmt::format("the size is a power of two ({}), as memory dumps and cut downloads have",
                     human_size(out.size))});
  }
}

/// What an entry is by itself; null where nothing claims it, or it cannot be read.
const Format* format_of(Container& container, std::size_t index, const OpenContext& context) {
  try {
    Probe probe =
        make_probe(*container.content(index), std::string(base_name(container.entries()[index].path)));
    return recognise(probe, context);
  } catch (const std::exception&) {
    return nullptr;  // told by whoever opens it
  }
}

/// The largest container that an executable carries: most often what a person wants of it.
std::string carried(const Layer& layer, const OpenContext& context) {
  std::string best;
  std::uint64_t most = 0;
  std::span<const Entry> entries = layer.container->entries();
  for (std::size_t i = 0; i < std::min(entries.size(), kCarriedLookedAt); ++i) {
    if (!entries[i].has_data() || !entries[i].size_known() || entries[i].size <= most) continue;
    if (format_of(*layer.container, i, context) == nullptr) continue;
    best = entries[i].path;
    most = entries[i].size;
  }
  return best;
}

/// Whether what a search found are several packed streams and nothing else: a pack that nobody described.
bool holds_streams_alone(const Layer& layer, const OpenContext& context) {
  std::size_t count = std::min(layer.container->entries().size(), kCarriedLookedAt);
  for (std::size_t i = 0; i < count; ++i) {
    const Format* format = format_of(*layer.container, i, context);
    if (format == nullptr || !format->single_stream) return false;
  }
  return count > 1;
}

void suggest(const Place& place, OpenContext& context, Identification& out) {
  if (place.layers.empty()) {
    bool searched = !context.searched.empty();
    // First what may lie in it, then how it may be built itself.
    std::string_view next = searched ? "study" : "list --search";
    if (out.kind == "data") out.suggestion = fmt::format("operculum {} {}", next, shell_word(out.target));
    return;
  }
  const Layer& layer = place.layers.back();
  if (layer.format->carries) {
    bool searched = !context.searched.empty() && layer.format->id == context.searched.front().id;
    if (searched && holds_streams_alone(layer, context)) {
      out.suggestion = fmt::format("operculum study {}", shell_word(out.target));
      return;
    }
    if (std::string inner = carried(layer, context); !inner.empty()) {
      out.suggestion = fmt::format("operculum unpack {}", shell_word(out.target + "/" + inner + "/"));
      return;
    }
  }
  if (layer.container->installs()) {
    out.suggestion = fmt::format("operculum install-report {}", shell_word(out.target));
    return;
  }
  out.suggestion = fmt::format("operculum list {}", shell_word(out.target));
}

/// Which other formats the same bytes are: hybrids are several at once.
std::vector<std::string_view> other_formats(const Content& content, const Format* chosen) {
  std::vector<std::string_view> names;
  SourcePtr source = content.source();
  if (!source || source->costly()) return names;
  Probe probe(source, "");
  for (const Format& format : formats()) {
    constexpr std::string_view kFamilies[] = {"file system", "partition table", "disk image"};
    bool stands_beside =
        std::find(std::begin(kFamilies), std::end(kFamilies), format.family) != std::end(kFamilies);
    if (&format != chosen && stands_beside && format.recognise(probe) >= Match::inside)
      names.push_back(format.name);
  }
  return names;
}

/// Every format that recognises the target's own bytes: of a file on disk those that lie there.
void tell_claims(const Place& place, bool whole_file, const OpenContext& context, Identification& out) {
  const Layer* layer = place.layers.empty() || (!whole_file && place.entry) ? nullptr
                       : whole_file                                         ? &place.layers.front()
                                                                            : &place.layers.back();
  ContentPtr content = layer == nullptr ? place.content : layer->content;
  if (!content) return;
  std::string name = layer == nullptr ? place.name : layer->name;
  Probe probe = make_probe(*content, name);
  for (const Claim& claim : claims_on(probe, context))
    out.claims.push_back({claim.format, reason_of(claim, name)});
  out.near_claims = probe.almost();
}

/// Several numbered files that were read as one.
void tell_parts(const Place& place, Identification& out) {
  if (place.parts < 2) return;
  std::string name(name_part(place.file));
  out.findings.push_back(
      {Finding::Level::note,
       fmt::format("{} files were joined, from {} to {}: the size is that of all of them", place.parts,
                   escape(name),
                   escape(fmt::format("{}{:03}", name.substr(0, name.size() - 3), place.parts)))});
}

/// What bytes are that no container format claims.
void name_leaf(const Place& place, const OpenContext& context, Identification& out) {
  Probe probe = make_probe(*place.content, place.name);
  KindReader reader(context);
  // An entry may be a container that cannot be opened; a file that is one ended the walk.
  KindReader::Told told =
      place.layers.empty() ? reader.tell_leaf(probe, place.name) : reader.tell(probe, place.name);
  out.kind = told.kind;
  out.media_type = told.media_type;
  out.description = reader.describe(probe);
  bool whole_file = place.layers.empty();
  if (SourcePtr source = place.content->source();
      source && !source->costly() && (whole_file || out.kind == "data"))
    out.volume = volume_facts(*source, whole_file && place.parts == 1 ? place.file : "");
}

/// Whether the target is a file on disk with all that is in it, not something within its container.
bool is_whole_file(const Place& place, const std::string& target) {
  if (place.layers.empty() || place.file == target) return true;
  bool steps_only = std::all_of(place.layers.begin(), place.layers.end() - 1,
                                [](const Layer& layer) { return layer.format->single_stream; });
  bool all_of_it = place.inside.empty() && !(place.entry && !place.layers.back().format->single_stream);
  return steps_only && all_of_it;
}

}  // namespace

Identification identify(const std::string& target, const IdentifyRequest& request, OpenContext& context) {
  Identification out;
  out.target = target;
  Place place = resolve(target, context, Step::into);
  bool whole_file = is_whole_file(place, target);
  out.within = !whole_file;
  out.size = whole_file    ? place.file_source->size()
             : place.entry ? place.entry->size
                           : place.layers.back().stored_size;
  for (const Layer& layer : place.layers) {
    bool last = &layer == &place.layers.back();
    bool cheap =
        layer.container->access() == Access::random || place.file_source->size() <= kCountWithoutAsking;
    bool wanted = whole_file || (last && !place.entry);
    out.layers.push_back(look(layer, wanted && (cheap || request.count_solid)));
    if (request.records && wanted) out.layers.back().records = records_of(layer);
    bool volumes = layer.format->family == "volume" && !layer.format->single_stream;
    if ((layer.format->family == "partition table" || volumes) && wanted)
      out.layers.back().parts = look_at_parts(layer, context);
    bool mapped =
        can_be_mapped(*layer.format) && (layer.format->family != "partition table" || request.map_disks);
    if (last && wanted && mapped && layer.content) {
      if (SourcePtr bytes = layer.content->source(); bytes && !bytes->costly())
        out.map = map_regions(*layer.container, bytes, context);
    }
  }
  bool leaf = place.layers.empty() || place.layers.back().format->single_stream || place.entry;
  if (leaf && place.content) {
    try {
      name_leaf(place, context, out);
    } catch (const NeedsKey& error) {  // what stands in front of the encrypted bytes is told
      out.findings.push_back(locked(error));
    }
  }
  if (request.claims) tell_claims(place, whole_file, context, out);
  for (const std::string& sentence : place.almost)
    out.findings.push_back({Finding::Level::warning, sentence});
  if (whole_file) {
    out.origin = origin_of(place.file).value_or("");
    tell_parts(place, out);
    Place file = place;
    file.name = base_name(place.file);
    check_name(file, context, out);
    check_size(out);
    if (!place.layers.empty())
      out.also = other_formats(*make_content(place.file_source), place.layers.front().format);
  }
  suggest(place, context, out);
  return out;
}

}  // namespace operculum
