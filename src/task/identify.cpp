#include "task/identify.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"
#include "container/identify.h"
#include "container/open.h"
#include "io/origin.h"
#include "task/kinds.h"

namespace operculum {
namespace {

/// Solid layers up to this stored size, in bytes, are decoded to count their entries without being asked.
constexpr std::uint64_t kCountWithoutAsking = 16 << 20;

/// Entries of an executable that are looked at for containers.
constexpr std::size_t kCarriedLookedAt = 1000;

IdentifiedLayer look(const Layer& layer, bool count) {
  IdentifiedLayer out;
  out.format = layer.format;
  out.name = layer.name;
  out.stored_size = layer.stored_size;
  if (count) {
    std::uint64_t files = 0;
    for (const Entry& entry : layer.container->entries()) {
      if (entry.kind == EntryKind::folder) {
        ++out.folders;
      } else if (!entry.has_data()) {
        ++out.links;
      } else {
        ++files;
        out.encrypted += entry.is(Entry::encrypted) ? 1 : 0;
        if (!entry.size_known()) {
          out.sizes_known = false;
          continue;
        }
        out.unpacked += entry.size;
        if (entry.size >= out.largest_bytes) {
          out.largest = entry.path;
          out.largest_bytes = entry.size;
        }
      }
    }
    out.entries = files;
  }
  out.facts = layer.container->facts();
  out.findings = layer.container->findings();
  return out;
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
      Opened inner = open_container({layer.container->content(i), part.path, nullptr}, context);
      if (inner.container) {
        part.format = inner.format->name;
        part.facts = inner.container->facts();
        part.findings = inner.container->findings();
      }
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
  return dot == std::string::npos || dot == 0 ? "" : to_lower(name.substr(dot));
}

std::string article(std::string_view word) {
  return fmt::format(
      "{} {}", std::string_view("aeiouAEIOU").find(word[0]) == std::string_view::npos ? "a" : "an", word);
}

/// What the name claims against what the bytes are.
void check_name(const Place& place, const OpenContext& context, Identification& out) {
  std::string ending = ending_of(place.name);
  if (ending.empty()) return;
  const Format* claimed = format_for_name(place.name, &context);
  if (place.layers.empty()) {
    if (claimed != nullptr) {
      out.findings.push_back(
          {Finding::Level::warning,
           fmt::format("named {}, but it is no {}: its content is {}; renaming a file does not convert it",
                       ending, claimed->name, out.media_type)});
    }
    return;
  }
  const Format* real = place.layers.front().format;
  if (claimed == real || name_fits(*real, place.name)) return;
  std::string means = claimed != nullptr ? fmt::format("it is no {}", claimed->name)
                                         : fmt::format("no renaming needed, unpack it as it is");
  out.findings.push_back(
      {claimed != nullptr ? Finding::Level::warning : Finding::Level::note,
       fmt::format("named {}; it is {}: {}{}", ending, article(real->name), means,
                   claimed != nullptr ? ", and no renaming is needed to unpack it as it is" : "")});
}

/// Images of discs and disks have such sizes by nature.
bool is_image(const Identification& out) {
  if (out.layers.empty()) return false;
  std::string_view family = out.layers.front().format->family;
  return family == "file system" || family == "partition table" || family == "disk image";
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

/// The largest container that an executable carries: most often what a person wants of it.
std::string carried(const Layer& layer, OpenContext& context) {
  std::string best;
  std::uint64_t most = 0;
  std::span<const Entry> entries = layer.container->entries();
  for (std::size_t i = 0; i < std::min(entries.size(), kCarriedLookedAt); ++i) {
    if (!entries[i].has_data() || !entries[i].size_known() || entries[i].size <= most) continue;
    try {
      Probe probe = make_probe(*layer.container->content(i), std::string(base_name(entries[i].path)));
      if (recognise(probe, context) == nullptr) continue;
      best = entries[i].path;
      most = entries[i].size;
    } catch (const std::exception&) {
      continue;  // told by whoever opens it
    }
  }
  return best;
}

void suggest(const Place& place, OpenContext& context, Identification& out) {
  if (place.layers.empty()) {
    bool searched = !context.searched.empty();
    if (out.kind == "data" && !searched)
      out.suggestion = fmt::format("operculum list --search {}", shell_word(out.target));
    return;
  }
  const Layer& layer = place.layers.back();
  if (layer.format->carries) {
    if (std::string inner = carried(layer, context); !inner.empty()) {
      out.suggestion = fmt::format("operculum unpack {}", shell_word(out.target + "/" + inner));
      return;
    }
  }
  if (layer.container->installs()) {
    out.suggestion = fmt::format("operculum install-report {}", shell_word(out.target));
    return;
  }
  out.suggestion = fmt::format("operculum list {}", shell_word(out.target));
}

}  // namespace

Identification identify(const std::string& target, const IdentifyRequest& request, OpenContext& context) {
  Identification out;
  out.target = target;
  Place place = resolve(target, context, Step::into);
  bool whole_file = place.layers.empty() || (place.inside.empty() && !place.entry) || place.file == target;
  out.size = whole_file ? place.file_source->size() : place.layers.back().stored_size;
  for (const Layer& layer : place.layers) {
    bool cheap =
        layer.container->access() == Access::random || place.file_source->size() <= kCountWithoutAsking;
    out.layers.push_back(look(layer, cheap || request.count_solid));
    if (layer.format->family == "partition table") out.layers.back().parts = look_at_parts(layer, context);
  }
  bool leaf = place.layers.empty() || place.layers.back().format->single_stream || place.entry;
  if (leaf && place.content) {
    Probe probe = make_probe(*place.content, place.name);
    KindReader::Told told = KindReader().tell(probe, place.name);
    out.kind = told.kind;
    out.media_type = told.media_type;
  }
  if (whole_file) {
    out.origin = origin_of(place.file).value_or("");
    Place file = place;
    file.name = base_name(place.file);
    check_name(file, context, out);
    check_size(out);
  }
  suggest(place, context, out);
  return out;
}

}  // namespace operculum
