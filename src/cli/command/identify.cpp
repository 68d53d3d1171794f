#include "task/identify.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/folder_options.h"
#include "cli/session.h"
#include "report/fact_text.h"
#include "report/map_text.h"
#include "report/records.h"
#include "report/text_table.h"
#include "task/counts.h"

namespace operculum::cli {
namespace {

/// What bytes are that are no container: "a PNG image (image/png)".
std::string leaf_text(const Identification& found) {
  return fmt::format("{} ({})", found.kind == "empty" ? "an empty file" : with_article(found.kind + " file"),
                     found.media_type);
}

/// The layers from the file on disk inwards: "an xz file, holding a tar archive".
std::string stack_text(const Identification& found) {
  if (found.layers.empty()) {
    for (const auto& [name, value] : found.volume) {
      if (name == "type" || name == "partition table")
        return fmt::format("{} {}, which this program does not open", value,
                           name == "type" ? "volume" : "partition table");
    }
    return fmt::format("no container that this program knows ({}: {})", found.kind, found.media_type);
  }
  std::string text;
  for (const IdentifiedLayer& layer : found.layers)
    text += text.empty() ? std::string(layer.format->name)
                         : fmt::format(", holding {}", with_article(layer.format->name));
  if (found.layers.back().format->single_stream && !found.kind.empty())
    text += ", holding " + leaf_text(found);
  return text;
}

/// Of a target within others: what it is itself, and where it lies.
std::string within_text(const Identification& found, std::string& where) {
  bool leaf = !found.kind.empty();
  std::size_t around = found.layers.size() - (leaf ? 0 : 1);
  for (std::size_t i = around; i-- > 0;)
    where += fmt::format("{}{} {}", where.empty() ? "" : ", in ", with_article(found.layers[i].format->name),
                         escape(found.layers[i].name));
  return leaf ? leaf_text(found) : std::string(found.layers.back().format->name);
}

std::string contents_text(const IdentifiedLayer& layer) {
  if (!layer.counts) return "not counted: it would have to be unpacked (--count does it)";
  std::string text = counts_text(*layer.counts);
  if (layer.sizes_known) text += fmt::format("; {} unpacked", human_size(layer.counts->bytes));
  if (layer.encrypted > 0)
    text += fmt::format("; {} encrypted",
                        layer.encrypted == layer.counts->files ? "all" : grouped(layer.encrypted));
  return text;
}

/// One line: what it is, how large, and what is in it.
Shown brief_text(const Identification& found) {
  std::string where, text = found.within ? within_text(found, where) : stack_text(found);
  bool plain_file = found.layers.empty() && found.volume.empty() && found.kind != "data";
  if (plain_file) text = leaf_text(found);
  if (found.size != Entry::kUnknownSize) text += ", " + human_size(found.size);
  if (!found.layers.empty() && found.kind.empty() && found.layers.back().counts)
    text += ", " + contents_text(found.layers.back());
  for (const Finding& finding : found.findings) {
    if (finding.level != Finding::Level::note)
      text += fmt::format("; {}: {}", name_of(finding.level), finding.text);
  }
  return shown("{}: {}\n", escape(found.target), text);
}

bool has_fault(const Identification& found) {
  auto faulty = [](const std::vector<Finding>& findings) {
    return std::any_of(findings.begin(), findings.end(),
                       [](const Finding& one) { return one.level == Finding::Level::fault; });
  };
  return faulty(found.findings) ||
         std::any_of(found.layers.begin(), found.layers.end(), [&](const IdentifiedLayer& layer) {
           return faulty(layer.findings) ||
                  std::any_of(layer.parts.begin(), layer.parts.end(),
                              [&](const IdentifiedPart& part) { return faulty(part.findings); });
         });
}

/// "2         Linux file system \"kiosk\", 512.0 MiB: ext4 file system, label exhibit, 210.0 MiB used, 302.0
/// MiB free".
std::string part_text(const IdentifiedPart& part) {
  std::string text = escape(part.type);
  if (!part.name.empty()) text += fmt::format(" \"{}\"", escape(part.name));
  text += fmt::format(", {}", human_size(part.size));
  if (part.format.empty()) return text;
  text += fmt::format(": {}", part.format);
  for (const auto& [name, value] : part.facts) {
    std::string brief = escape(value).substr(0, value.find(" ("));
    if (name == "label") text += fmt::format(" \"{}\"", brief);
    if (name == "used" || name == "free") text += fmt::format(", {} {}", brief, name);
  }
  return text;
}

/// A structure field by field, in the names of its specification.
Shown record_text(const IdentifiedLayer& layer, const IdentifiedRecord& record) {
  TextTable table(
      {{"at", TextTable::Align::right}, {"bytes", TextTable::Align::right}, {"field"}, {"value"}});
  for (const FieldRow& row : record.rows)
    table.add({grouped(row.at), std::to_string(row.width), row.name, row.value});
  return shown("\n{}: {}, after {}\n", layer.format->name, record.name, layer.format->specification) +
         table.text();
}

Shown to_text(const Identification& found, bool colour) {
  Shown out = styled(escape(found.target), "1", colour) + "\n";
  auto line = [&](std::string_view label, const std::string& text) {
    out += shown("  {:<9} {}\n", label, text);
  };
  std::string where;
  line("is", found.within ? within_text(found, where) : stack_text(found));
  if (!where.empty()) line("in", where);
  for (std::string_view other : found.also) line("also", std::string(other));
  for (const IdentifiedClaim& claim : found.claims)
    line("claim", fmt::format("{}: {}", claim.format->name, claim.reason));
  for (const std::string& sentence : found.near_claims) line("no claim", sentence);
  if (!found.description.empty() && (found.layers.empty() || found.within || !found.kind.empty()))
    line(found.kind == "data" ? "perhaps" : "content", printable(found.description));
  for (const auto& [name, value] : found.volume)
    line(name.size() <= 9 ? name : "fact",
         name.size() <= 9 ? escape(value) : fmt::format("{}: {}", name, escape(value)));
  if (found.size != Entry::kUnknownSize)
    line("size", fmt::format("{} ({} bytes)", human_size(found.size), grouped(found.size)));
  if (!found.origin.empty()) line("from", escape(found.origin));
  bool leaf_within = found.within && !found.kind.empty();
  for (const IdentifiedLayer& layer : found.layers) {
    bool told = !found.within || (&layer == &found.layers.back() && !leaf_within);
    if (!told) continue;
    if (!layer.format->single_stream && layer.parts.empty()) {
      line("holds", contents_text(layer));
      if (!layer.largest.empty() && layer.counts && layer.counts->files > 1) {
        line("largest", fmt::format("{} ({})", escape(layer.largest), human_size(layer.largest_bytes)));
      }
    }
    std::uint64_t unused = 0, ranges = 0;
    for (const IdentifiedPart& part : layer.parts) {
      bool partition = part.type != "unallocated";
      if (partition) line(part.path, part_text(part));
      unused += partition ? 0 : part.size;
      ranges += partition ? 0 : 1;
    }
    if (ranges > 0)
      line("unused", fmt::format("{} in {} without a partition", human_size(unused),
                                 counted(ranges, "range", "ranges")));
    for (const auto& [name, value] : layer.facts)
      line(name.size() <= 9 ? name : "fact",
           name.size() <= 9 ? fact_text(value) : fmt::format("{}: {}", name, fact_text(value)));
  }
  bool partitions = !found.layers.empty() && !found.layers.back().parts.empty();  // told above
  if (found.map && !partitions) out += map_text(*found.map);
  auto tell = [&](const Finding& finding) {
    std::string_view sgr = finding.level == Finding::Level::note      ? "36"
                           : finding.level == Finding::Level::warning ? "35"
                                                                      : "31";
    out +=
        shown("  {} {}\n", styled(fmt::format("{:<9}", name_of(finding.level)), sgr, colour), finding.text);
  };
  for (const Finding& finding : found.findings) tell(finding);
  for (const IdentifiedLayer& layer : found.layers) {
    for (const Finding& finding : layer.findings) tell(finding);
    for (const IdentifiedPart& part : layer.parts) {
      for (const Finding& finding : part.findings)
        tell({finding.level, fmt::format("{}: {}", part.path, finding.text)});
    }
  }
  if (!found.suggestion.empty()) line("next", found.suggestion);
  for (const IdentifiedLayer& layer : found.layers) {
    for (const IdentifiedRecord& record : layer.records) out += record_text(layer, record);
  }
  return out;
}

struct IdentifyOptions {
  std::vector<std::string> targets;
  IdentifyRequest request;
  FolderOptions folders;
  std::string page;
  bool brief = false;
};

/// Of a shelf of files one line each is what a person can read.
bool has_folder(const std::vector<std::string>& targets) {
  return std::any_of(targets.begin(), targets.end(), [](const std::string& target) {
    std::error_code error;
    return std::filesystem::is_directory(target, error);
  });
}

}  // namespace

void add_identify(CommandLine& program, Session& session) {
  Options command = program.command({"identify",
                                     "Tell what files really are, by content, layer by layer",
                                     {"operculum identify tidepool.skin", "operculum identify card.img/2"}});
  auto options = std::make_shared<IdentifyOptions>();
  command.arguments("TARGET", options->targets,
                    "Files, or paths that go on into containers; a folder stands for its files, a line each");
  command.flag("--brief", options->brief, "One line for each");
  command.flag("--count", options->request.count_solid,
               "Count what is in large solid archives, too; they must be unpacked for it");
  command.flag(
      "--fields", options->request.records,
      "Show the headers and superblocks of the format field by field: place, size, the specification's "
      "name, value");
  command.text(
      "--page", options->page, "FILE",
      "Write a page with the map of a firmware file, a disk, or (with --search) any file, drawn to scale");
  options->folders.add_to(command);
  command.run([&session, options] {
    prepare(session);
    bool colour = session.output.empty() && colour_wanted(1);
    bool brief = options->brief || has_folder(options->targets);
    options->request.claims = session.verbose;
    options->request.map_disks = session.json || !options->page.empty();
    std::vector<std::string> targets = options->folders.files(session, options->targets);
    Confinement(session).reads(options->targets).reads_links(targets).makes(options->page).begin();
    for (const std::string& target : targets) {
      try {
        Identification found = identify(target, options->request, session.context);
        session.data.write(session.json ? json_line(found)
                           : brief      ? brief_text(found)
                                        : to_text(found, colour));
        if (has_fault(found)) session.raise(some_failed);
        if (!options->page.empty()) {
          if (!found.map)
            throw Malformed(
                "there is no map to draw of it: it is neither firmware nor a disk; --search may find parts "
                "in it");
          session.write_new_file(options->page, map_page(*found.map, found.target), "page");
        }
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        report_error(session, target, error);
      }
    }
  });
}

}  // namespace operculum::cli
