#include "task/identify.h"

#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/session.h"
#include "report/records.h"

namespace operculum::cli {
namespace {

std::string stack_text(const Identification& found) {
  std::string text;
  for (const IdentifiedLayer& layer : found.layers)
    text += fmt::format("{}{}", text.empty() ? "" : ", holding a ", layer.format->name);
  if (found.layers.empty())
    text = fmt::format("no container that this program knows ({}: {})", found.kind, found.media_type);
  if (!found.layers.empty() && found.layers.back().format->single_stream && !found.kind.empty()) {
    text += fmt::format(", holding one {} file ({})", found.kind, found.media_type);
  }
  return text;
}

std::string contents_text(const IdentifiedLayer& layer) {
  if (!layer.entries) return "not counted: it would have to be unpacked (--count does it)";
  std::string text = counted(*layer.entries, "file", "files");
  if (layer.folders > 0) text += fmt::format(", {}", counted(layer.folders, "folder", "folders"));
  if (layer.links > 0) text += fmt::format(", {}", counted(layer.links, "link", "links"));
  if (layer.sizes_known) text += fmt::format("; {} unpacked", human_size(layer.unpacked));
  if (layer.encrypted > 0)
    text +=
        fmt::format("; {} encrypted", layer.encrypted == *layer.entries ? "all" : grouped(layer.encrypted));
  return text;
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

std::string to_text(const Identification& found, bool colour) {
  std::string out = styled(escape(found.target), "1", colour) + "\n";
  auto line = [&](std::string_view label, const std::string& text) {
    out += fmt::format("  {:<9} {}\n", label, text);
  };
  line("is", stack_text(found));
  if (found.size != Entry::kUnknownSize)
    line("size", fmt::format("{} ({} bytes)", human_size(found.size), grouped(found.size)));
  if (!found.origin.empty()) line("from", escape(found.origin));
  for (const IdentifiedLayer& layer : found.layers) {
    if (!layer.format->single_stream && layer.parts.empty()) {
      line("holds", contents_text(layer));
      if (!layer.largest.empty() && layer.entries && *layer.entries > 1) {
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
           name.size() <= 9 ? escape(value) : fmt::format("{}: {}", name, escape(value)));
  }
  auto tell = [&](const Finding& finding) {
    std::string_view sgr = finding.level == Finding::Level::note      ? "36"
                           : finding.level == Finding::Level::warning ? "35"
                                                                      : "31";
    out += fmt::format("  {} {}\n", styled(fmt::format("{:<9}", name_of(finding.level)), sgr, colour),
                       finding.text);
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
  return out;
}

}  // namespace

void add_identify(CommandLine& program, Session& session) {
  Options command = program.command({"identify",
                                     "Tell what files really are, by content, layer by layer",
                                     {"operculum identify tidepool.skin", "operculum identify card.img/2"}});
  auto targets = std::make_shared<std::vector<std::string>>();
  auto request = std::make_shared<IdentifyRequest>();
  command.arguments("TARGET", *targets, "Files, or paths that go on into containers");
  command.flag("--count", request->count_solid,
               "Count what is in large solid archives, too; they must be unpacked for it");
  command.run([&session, targets, request] {
    prepare(session);
    bool colour = session.output.empty() && colour_wanted(1);
    for (const std::string& target : *targets) {
      try {
        Identification found = identify(target, *request, session.context);
        session.data.write(session.json ? json_line(found) : to_text(found, colour));
      } catch (const std::exception& thrown) {
        Error error = as_error(thrown);
        report_error(session, target, error);
      }
    }
  });
}

}  // namespace operculum::cli
