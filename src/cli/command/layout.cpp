#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <span>
#include <tuple>

#include "base/text.h"
#include "base/units.h"
#include "cli/confinement.h"
#include "cli/figures.h"
#include "cli/session.h"
#include "report/check_page.h"
#include "report/fact_text.h"
#include "report/records.h"
#include "report/text_table.h"
#include "task/layout_check.h"

namespace operculum::cli {
namespace {

using layout::CoverRange;
using layout::Problem;

constexpr std::size_t kFieldsShown = 120, kRangesShown = 40;

struct CheckOptions {
  std::string file, container, only, at, entry, page, figures;
  std::uint64_t fields = kFieldsShown;
  bool ranges = false, roles = false, file_order = false;
};

/// Tells the problems; true when there is no error among them.
bool tell_problems(Session& session, const layout::Description& description,
                   const layout::Compiled& compiled) {
  for (const Problem& problem : compiled.problems)
    session.data.write(session.json ? json_line(description, problem)
                                    : Shown::lines(description.show(problem)));
  return compiled.plan != nullptr;
}

std::string share(std::uint64_t part, std::uint64_t whole) {
  return fmt::format("{:.2f} %",
                     whole == 0 ? 0.0 : 100.0 * static_cast<double>(part) / static_cast<double>(whole));
}

/// As they lie in the file; what was worked out, and what lies in other parts, comes last.
std::vector<layout::Tracer::Field> in_file_order(std::vector<layout::Tracer::Field> fields) {
  std::stable_sort(fields.begin(), fields.end(), [](const auto& a, const auto& b) {
    return std::tuple(!a.offset, a.region, a.offset) < std::tuple(!b.offset, b.region, b.offset);
  });
  return fields;
}

void tell_fields(Session& session, const CheckOptions& options, const LayoutTrial& trial) {
  TextTable table({{"offset", TextTable::Align::right},
                   {"bytes", TextTable::Align::right},
                   {"raw"},
                   {"field"},
                   {"value"}});
  for (const auto& field : options.file_order ? in_file_order(trial.fields) : trial.fields) {
    std::string offset = field.offset ? fmt::format("0x{:x}", *field.offset) : "";
    if (!field.region.empty()) offset = fmt::format("{} {}", escape(field.region), offset);
    table.add(
        {offset, field.offset ? std::to_string(field.size) : "", field.raw, escape(field.name), field.value});
  }
  session.data.write(table.text());
  if (trial.fields_left_out > 0)
    session.data.write(shown("... and {} (--fields N shows more)\n",
                             counted(trial.fields_left_out, "field more", "fields more")));
}

void tell_coverage(Session& session, const CheckOptions& options, const std::string& name, std::uint64_t size,
                   std::span<const CoverRange> ranges) {
  auto bytes = bytes_by_kind(ranges);
  Shown text = shown("\n{} ({} bytes):", escape(name), grouped(size));
  for (std::size_t kind = 0; kind < bytes.size(); ++kind)
    text += shown("{} {} {}", kind == 0 ? "" : ",", layout::name_of(static_cast<CoverRange::Kind>(kind)),
                  share(bytes[kind], size));
  session.data.write(text + "\n");
  std::size_t told = 0, left = 0;
  for (const CoverRange& range : ranges) {
    bool wanted = options.ranges || range.kind == CoverRange::Kind::unexplained;
    if (!wanted) continue;
    if (!options.ranges && ++told > kRangesShown) {
      ++left;
      continue;
    }
    session.data.write(shown("  {:>12} to {:<12} {:>12} bytes  {}\n", fmt::format("0x{:x}", range.begin),
                             fmt::format("0x{:x}", range.end), grouped(range.end - range.begin),
                             layout::name_of(range.kind)));
  }
  if (left > 0)
    session.data.write(shown("  ... and {} (--ranges shows all)\n",
                             counted(left, "unexplained range more", "unexplained ranges more")));
}

void tell_json(Session& session, const CheckOptions& options, const LayoutTrial& trial) {
  for (const auto& field : trial.fields) session.data.write(json_line(field));
  for (const CoverRange& range : trial.ranges) {
    if (options.ranges || range.kind == CoverRange::Kind::unexplained) session.data.write(json_line(range));
  }
  for (const auto& file : trial.others) session.data.write(json_line(file));
  for (const FoldedFinding& finding : trial.findings) session.data.write(json_line(finding));
  session.data.write(json_line(trial));
}

/// What a changed entry would have to change, and what cannot be changed back.
void tell_roles(Session& session, const layout::Plan& plan) {
  TextTable table({{"rule"}, {"role"}, {"comes from"}, {"can be written back"}});
  for (const RoleBack& role : roles_back(plan)) {
    if (session.json) {
      session.data.write(json_line(role));
    } else {
      table.add({role.rule, role.role, role.fields.empty() ? "-" : role.fields,
                 role.obstacle.empty() ? "yes" : "by trial: it " + role.obstacle});
    }
  }
  if (!session.json) session.data.write(table.text());
}

/// The offset that a person wrote, in decimal digits or as 0x... ; throws Malformed.
std::optional<std::uint64_t> offset_of(const std::string& text) {
  if (text.empty()) return std::nullopt;
  bool hexadecimal = text.starts_with("0x");
  std::string_view digits = std::string_view(text).substr(hexadecimal ? 2 : 0);
  std::uint64_t value = 0;
  auto [end, error] =
      std::from_chars(digits.data(), digits.data() + digits.size(), value, hexadecimal ? 16 : 10);
  if (error != std::errc() || end != digits.data() + digits.size())
    throw Malformed(fmt::format("\"{}\" is no offset; write 1024 or 0x400", escape(text)));
  return value;
}

void tell_description(Session& session, const std::string& file, const layout::Plan& plan) {
  session.data.write(shown("{}: \"{}\" is a description without errors\n", escape(file), escape(plan.title)));
  for (const std::string& sentence : recognition_of(plan)) session.data.write(shown("  {}\n", sentence));
}

/// What is found beside the fields: coverage, facts, faults.
void tell_trial(Session& session, const CheckOptions& options, const LayoutTrial& trial) {
  tell_fields(session, options, trial);
  if (options.entry.empty()) {
    tell_coverage(session, options, trial.target, trial.size, trial.ranges);
    for (const auto& file : trial.others) tell_coverage(session, options, file.name, file.size, file.ranges);
  }
  for (const auto& [name, value] : trial.facts)
    session.data.write(shown("  {}: {}\n", name, fact_text(value)));
  for (const FoldedFinding& finding : trial.findings)
    session.data.write(shown("{}: {}\n", name_of(finding.level), to_text(finding)));
  if (trial.compared > 0)
    session.data.write(shown("the checksums of the first {} are right\n",
                             counted(trial.compared, "entry that has one", "entries that have one")));
  if (trial.failure.empty()) session.data.write(shown("{}\n", counted(trial.entries, "entry", "entries")));
}

void check(Session& session, const CheckOptions& options, const Figures& figures) {
  const std::string path = session.layout_path(options.file);
  layout::Found found = session.read_layout(path);
  layout::Description text{found.path, found.compiled.plan ? found.compiled.plan->description.text : ""};
  if (!found.compiled.plan) text = session.description_of(path);
  text.name = layout::layout_name(options.file) + ".layout";
  if (!tell_problems(session, text, found.compiled)) {
    session.raise(cannot_open);
    return;
  }
  if (options.container.empty()) {
    if (options.roles) tell_roles(session, *found.compiled.plan);
    if (!session.json && !session.quiet) tell_description(session, options.file, *found.compiled.plan);
    return;
  }
  TrialWishes wishes{{options.fields, options.only, offset_of(options.at)},
                     !options.page.empty() || figures.wanted(),
                     options.entry};
  LayoutTrial trial = try_layout(found.compiled.plan, options.container, wishes, session.context);
  if (!options.page.empty())
    session.write_new_file(options.page, check_page(trial, found.compiled.plan->title), "page");
  if (figures.wanted()) figures.write(session, check_figures(trial));
  if (session.json) {
    tell_json(session, options, trial);
  } else {
    tell_trial(session, options, trial);
  }
  if (!trial.failure.empty()) {
    if (!session.json)
      session.say(Session::Tone::error, fmt::format("{}: {}", escape(options.container), trial.failure));
    session.raise(cannot_open);
  } else if (!trial.findings.empty()) {
    session.raise(some_failed);
  }
}

void add_check(CommandLine& program, Session& session) {
  Options command = program.command_within(
      "layout",
      {"check",
       "Tell what is wrong in a description; with a container, what it reads there and what each byte is for",
       {"operculum layout check shoal.layout", "operculum layout check shoal.layout tidepool.shoal"}});
  auto options = std::make_shared<CheckOptions>();
  command.argument("FILE", options->file, "The description: a file, or a name that layout list tells");
  command.argument("CONTAINER", options->container,
                   "A file to try it on, or a path that goes on into containers", Options::Needed::no);
  command.number("--fields", options->fields,
                 fmt::format("Most fields shown of the trace ({})", kFieldsShown));
  command.text("--only", options->only, "NAME",
               "Show only fields of that name, or in records or lists of it");
  command.text("--at", options->at, "OFFSET", "Show only what was read of the byte there: 1024, or 0x400");
  command.text("--entry", options->entry, "ENTRY",
               "Show what is read for one entry, and its roles: its path, or its number from 0 on");
  command.flag("--file-order", options->file_order,
               "Show the fields as they lie in the file, not as they were read");
  command.text("--page", options->page, "FILE",
               "Write an HTML page with a map of the container to this new file");
  command.text("--figures", options->figures, "FOLDER",
               "Write the page's drawings as SVG into this new folder");
  command.flag(
      "--roles", options->roles,
      "Without a container: tell which fields each role comes from, and whether it can be written back");
  command.flag("--ranges", options->ranges, "Show every range of bytes, not only the unexplained ones");
  command.run([&session, options] {
    prepare(session);
    Confinement confinement(session);
    confinement.reads(options->file).reads(options->container).makes(options->page);
    Figures figures(confinement, options->figures);
    confinement.begin();
    try {
      check(session, *options, figures);
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      report_error(session, options->file, error);
    }
  });
}

void tell_library(Session& session) {
  TextTable table({{"name"}, {"describes"}, {"endings"}, {"found in"}});
  for (const layout::Found& found : session.library().all()) {
    if (session.json) {
      session.data.write(json_line(found));
      continue;
    }
    const auto& plan = found.compiled.plan;
    table.add({escape(layout::layout_name(found.path)),
               plan ? escape(plan->title) : "has errors; layout check tells which",
               plan ? fmt::format("{}", fmt::join(plan->suffixes, " ")) : "", escape(found.path)});
  }
  if (session.json) return;
  if (session.library().all().empty()) {
    session.say(Session::Tone::note,
                fmt::format("no descriptions are found; they are looked for in {}/layouts",
                            escape(session.config_folder)));
  } else {
    session.data.write(table.text());
  }
}

void add_list_and_show(CommandLine& program, Session& session) {
  Options list_command =
      program.command_within("layout", {"list",
                                        "List the descriptions that are found, and where",
                                        {"operculum layout list", "operculum layout list --json"}});
  list_command.run([&session] {
    prepare(session);
    Confinement(session).begin();
    tell_library(session);
  });
  Options show_command =
      program.command_within("layout", {"show",
                                        "Print a description that is found",
                                        {"operculum layout show shoal", "operculum layout show reef"}});
  auto name = std::make_shared<std::string>();
  show_command.argument("NAME", *name, "Its name, as layout list tells");
  show_command.run([&session, name] {
    prepare(session);
    Confinement(session).begin();
    const layout::Found* found = session.library().find(*name);
    try {
      if (found == nullptr)
        throw Malformed("there is no such description; `operculum layout list` shows what there is");
      std::string text = session.description_of(found->path).text;
      if (!session.data.is_terminal()) return session.data.write_bytes(text);
      session.data.write(Shown::lines(text));
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      report_error(session, *name, error);
    }
  });
}

}  // namespace

void add_layout(CommandLine& program, Session& session) {
  program.command({"layout",
                   "Work with descriptions of formats",
                   {"operculum layout check shoal.layout tidepool.shoal", "operculum layout list"}});
  add_check(program, session);
  add_list_and_show(program, session);
}

}  // namespace operculum::cli
