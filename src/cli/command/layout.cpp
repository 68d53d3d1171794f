#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "cli/session.h"
#include "report/records.h"
#include "report/text_table.h"
#include "task/layout_check.h"

namespace operculum::cli {
namespace {

using layout::CoverRange;
using layout::Problem;

constexpr std::size_t kFieldsShown = 120, kRangesShown = 40;

struct CheckOptions {
  std::string file, container;
  std::size_t fields = kFieldsShown;
  bool ranges = false, roles = false;
};

Json problem_json(const layout::Description& description, const Problem& problem) {
  auto place = description.place_of(problem.where.at);
  Json record = {{"record", problem.level == Problem::Level::error ? "error" : "warning"},
                 {"file", escape(description.name)},
                 {"line", place.line},
                 {"column", place.column},
                 {"message", problem.text}};
  if (!problem.hint.empty()) record["hint"] = problem.hint;
  return record;
}

/// Tells the problems; true when there is no error among them.
bool tell_problems(Session& session, const layout::Description& description,
                   const layout::Compiled& compiled) {
  for (const Problem& problem : compiled.problems)
    session.data.write(session.json ? json_line(problem_json(description, problem))
                                    : description.show(problem));
  return compiled.plan != nullptr;
}

std::string share(std::uint64_t part, std::uint64_t whole) {
  return fmt::format("{:.2f} %",
                     whole == 0 ? 0.0 : 100.0 * static_cast<double>(part) / static_cast<double>(whole));
}

void tell_fields(Session& session, const LayoutTrial& trial) {
  TextTable table({{"offset", TextTable::Align::right},
                   {"bytes", TextTable::Align::right},
                   {"raw"},
                   {"field"},
                   {"value"}});
  for (const auto& field : trial.fields) {
    std::string offset = fmt::format("0x{:x}", field.offset);
    if (!field.region.empty()) offset = fmt::format("{} {}", escape(field.region), offset);
    table.add({offset, std::to_string(field.size), field.raw, escape(field.name), field.value});
  }
  session.data.write(table.text());
  if (trial.fields_left_out > 0)
    session.data.write(fmt::format("... and {} (--fields N shows more)\n",
                                   counted(trial.fields_left_out, "field more", "fields more")));
}

void tell_coverage(Session& session, const CheckOptions& options, const LayoutTrial& trial) {
  auto bytes = bytes_by_kind(trial);
  std::string text = fmt::format("\n{} ({} bytes):", escape(trial.target), grouped(trial.size));
  for (std::size_t kind = 0; kind < bytes.size(); ++kind)
    text += fmt::format("{} {} {}", kind == 0 ? "" : ",",
                        layout::name_of(static_cast<CoverRange::Kind>(kind)), share(bytes[kind], trial.size));
  session.data.write(text + "\n");
  std::size_t shown = 0, left = 0;
  for (const CoverRange& range : trial.ranges) {
    bool wanted = options.ranges || range.kind == CoverRange::Kind::unexplained;
    if (!wanted) continue;
    if (!options.ranges && ++shown > kRangesShown) {
      ++left;
      continue;
    }
    session.data.write(fmt::format("  {:>12} to {:<12} {:>12} bytes  {}\n",
                                   fmt::format("0x{:x}", range.begin), fmt::format("0x{:x}", range.end),
                                   grouped(range.end - range.begin), layout::name_of(range.kind)));
  }
  if (left > 0)
    session.data.write(fmt::format("  ... and {} (--ranges shows all)\n",
                                   counted(left, "unexplained range more", "unexplained ranges more")));
}

void tell_json(Session& session, const CheckOptions& options, const LayoutTrial& trial) {
  for (const auto& field : trial.fields) {
    Json record = {{"record", "field"},  {"name", escape(field.name)}, {"offset", field.offset},
                   {"size", field.size}, {"raw", field.raw},           {"value", field.value}};
    if (!field.region.empty()) record["in"] = escape(field.region);
    session.data.write(json_line(record));
  }
  for (const CoverRange& range : trial.ranges) {
    if (!options.ranges && range.kind != CoverRange::Kind::unexplained) continue;
    session.data.write(json_line({{"record", "range"},
                                  {"kind", layout::name_of(range.kind)},
                                  {"begin", range.begin},
                                  {"end", range.end}}));
  }
  for (const Finding& finding : trial.findings) session.data.write(json_line(finding_json("", finding)));
  auto bytes = bytes_by_kind(trial);
  Json record = {{"record", "coverage"}, {"size", trial.size}, {"entries", trial.entries}};
  for (std::size_t kind = 0; kind < bytes.size(); ++kind)
    record[std::string(layout::name_of(static_cast<CoverRange::Kind>(kind)))] = bytes[kind];
  for (const auto& [name, value] : trial.facts) record["facts"][name] = escape(value);
  if (!trial.failure.empty()) record["failure"] = trial.failure;
  session.data.write(json_line(record));
}

/// What a changed entry would have to change, and what cannot be changed back.
void tell_roles(Session& session, const layout::Plan& plan) {
  TextTable table({{"rule"}, {"role"}, {"comes from"}, {"can be written back"}});
  for (const RoleBack& role : roles_back(plan)) {
    if (session.json) {
      session.data.write(json_line({{"record", "role"},
                                    {"rule", role.rule},
                                    {"role", role.role},
                                    {"fields", role.fields},
                                    {"obstacle", role.obstacle}}));
    } else {
      table.add({role.rule, role.role, role.fields.empty() ? "-" : role.fields,
                 role.obstacle.empty() ? "yes" : "no, it " + role.obstacle});
    }
  }
  if (!session.json) session.data.write(table.text());
}

void check(Session& session, const CheckOptions& options) {
  layout::Found found = layout::Library::read(options.file);
  layout::Description text{found.path, found.compiled.plan ? found.compiled.plan->description.text : ""};
  if (!found.compiled.plan) text = session.description_of(options.file);
  text.name = layout::layout_name(options.file) + ".layout";
  if (!tell_problems(session, text, found.compiled)) {
    session.raise(cannot_open);
    return;
  }
  if (options.container.empty()) {
    if (options.roles) tell_roles(session, *found.compiled.plan);
    if (!session.json && !session.quiet)
      session.data.write(fmt::format("{}: \"{}\" is a description without errors\n", escape(options.file),
                                     escape(found.compiled.plan->title)));
    return;
  }
  LayoutTrial trial = try_layout(found.compiled.plan, options.container, options.fields, session.context);
  if (session.json) {
    tell_json(session, options, trial);
  } else {
    tell_fields(session, trial);
    tell_coverage(session, options, trial);
    for (const auto& [name, value] : trial.facts)
      session.data.write(fmt::format("  {}: {}\n", name, escape(value)));
    for (const Finding& finding : trial.findings)
      session.data.write(fmt::format("{}: {}\n", name_of(finding.level), finding.text));
    if (trial.failure.empty())
      session.data.write(fmt::format("{}\n", counted(trial.entries, "entry", "entries")));
  }
  if (!trial.failure.empty()) {
    if (!session.json)
      session.say(Session::Tone::error, fmt::format("{}: {}", escape(options.container), trial.failure));
    session.raise(cannot_open);
  } else if (!trial.findings.empty()) {
    session.raise(some_failed);
  }
}

void add_check(CLI::App& group, Session& session) {
  CLI::App* command = group.add_subcommand(
      "check",
      "Tell what is wrong in a description; with a container, what it reads there and what each byte is for");
  auto options = std::make_shared<CheckOptions>();
  command->add_option("FILE", options->file, "The description")->required();
  command->add_option("CONTAINER", options->container,
                      "A file to try it on, or a path that goes on into containers");
  command->add_option("--fields", options->fields, "Most fields shown of the trace")->capture_default_str();
  command->add_flag(
      "--roles", options->roles,
      "Without a container: tell which fields each role comes from, and whether it can be written back");
  command->add_flag("--ranges", options->ranges, "Show every range of bytes, not only the unexplained ones");
  command->callback([&session, options] {
    prepare(session);
    try {
      check(session, *options);
    } catch (const Error& error) {
      report_error(session, options->file, error);
    }
  });
}

void list(Session& session) {
  TextTable table({{"name"}, {"describes"}, {"endings"}, {"found in"}});
  for (const layout::Found& found : session.library().all()) {
    const auto& plan = found.compiled.plan;
    std::string name = layout::layout_name(found.path);
    std::string endings = plan ? fmt::format("{}", fmt::join(plan->suffixes, " ")) : "";
    if (session.json) {
      session.data.write(json_line({{"record", "layout"},
                                    {"name", escape(name)},
                                    {"title", plan ? escape(plan->title) : ""},
                                    {"endings", plan ? plan->suffixes : std::vector<std::string>()},
                                    {"path", escape(found.path)},
                                    {"valid", plan != nullptr}}));
    } else {
      table.add({escape(name), plan ? escape(plan->title) : "has errors; layout check tells which", endings,
                 escape(found.path)});
    }
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

void add_list_and_show(CLI::App& group, Session& session) {
  CLI::App* list_command = group.add_subcommand("list", "List the descriptions that are found, and where");
  list_command->callback([&session] {
    prepare(session);
    list(session);
  });
  CLI::App* show_command = group.add_subcommand("show", "Print a description that is found");
  auto name = std::make_shared<std::string>();
  show_command->add_option("NAME", *name, "Its name, as layout list tells")->required();
  show_command->callback([&session, name] {
    prepare(session);
    const layout::Found* found = session.library().find(*name);
    try {
      if (found == nullptr)
        throw Malformed("there is no such description; `operculum layout list` shows what there is");
      session.data.write(session.description_of(found->path).text);
    } catch (const Error& error) {
      report_error(session, *name, error);
    }
  });
}

}  // namespace

void add_layout(CLI::App& app, Session& session) {
  CLI::App* group = app.add_subcommand("layout", "Work with descriptions of formats: check, list, show");
  group->require_subcommand(1);
  group->fallthrough();
  add_check(*group, session);
  add_list_and_show(*group, session);
}

}  // namespace operculum::cli
