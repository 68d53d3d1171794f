#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/install_text.h"
#include "report/records.h"

namespace operculum {
namespace {

constexpr std::string_view kStyle = R"css(
:root { color-scheme: light dark; --ink: #1d2b33; --soft: #5b6b73; --line: #d5dde0; --paper: #fcfbf7; --mark: #0b6e75;
  --alarm: #a23b1e; --box: #f1f4f2 }
@media (prefers-color-scheme: dark) { :root { --ink: #e4e9ea; --soft: #9fb0b7; --line: #35444b; --paper: #141b1f;
  --mark: #6fc3c9; --alarm: #f0936f; --box: #1c262b } }
* { box-sizing: border-box }
body { margin: 0 auto; max-width: 68rem; padding: 1.5rem; background: var(--paper); color: var(--ink);
  font: 16px/1.5 system-ui, sans-serif }
h1 { font-size: 1.5rem; margin: 0 0 .25rem } h2 { font-size: 1.15rem; margin: 2rem 0 .5rem; color: var(--mark) }
h1, td, li, code { overflow-wrap: anywhere }
p.lead { margin: 0; color: var(--soft) }
.sums { display: flex; flex-wrap: wrap; gap: .75rem; margin: 1rem 0 }
.sums div { background: var(--box); border: 1px solid var(--line); border-radius: .5rem; padding: .5rem .9rem; min-width: 8rem }
.sums b { display: block; font-size: 1.25rem } .sums span { color: var(--soft); font-size: .85rem }
.sums .alarm b { color: var(--alarm) }
table { border-collapse: collapse; width: 100% } th { text-align: left; font-weight: 600; color: var(--soft); font-size: .85rem }
td, th { padding: .25rem .75rem .25rem 0; border-bottom: 1px solid var(--line); vertical-align: top }
td.number, th.number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap }
td.name { white-space: nowrap; color: var(--soft); width: 9rem }
code, pre, .path { font-family: ui-monospace, monospace; font-size: .9rem }
pre { background: var(--box); border: 1px solid var(--line); border-radius: .5rem; padding: .75rem; overflow-x: auto; margin: .5rem 0 }
details { margin: .4rem 0 } summary { cursor: pointer }
summary .soft, .soft { color: var(--soft) } .kind { color: var(--alarm); font-weight: 600 }
ul { padding-left: 1.2rem }
)css";

/// Text for an HTML page: what a container says must not become markup.
std::string html(std::string_view untrusted) {
  std::string out;
  for (char c : printable(untrusted)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

/// A script keeps its lines.
std::string html_lines(std::string_view untrusted) {
  std::string out;
  for (std::string_view line : split(trim(untrusted), '\n')) out += html(line) + "\n";
  return out;
}

class Page {
 public:
  std::string make(const std::vector<PackageReport>& reports, const std::string& target) {
    out_ = fmt::format(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" "
        "content=\"width=device-width, initial-scale=1\">\n<title>Install report: {}</title>\n"
        "<style>{}</style>\n</head>\n<body>\n",
        html(target), kStyle);
    for (const PackageReport& report : reports) package(report);
    out_ += "</body>\n</html>\n";
    return std::move(out_);
  }

 private:
  void package(const PackageReport& report) {
    std::string title = report.target;
    for (const auto& [name, value] : report.plan.about) {
      if (name == "product") title = value;
    }
    out_ += fmt::format(
        "<h1>{}</h1>\n<p class=\"lead\">{}, <span class=\"path\">{}</span>. Nothing was run.</p>\n",
        html(title), html(report.format), html(report.target));
    sums(report);
    for (const Finding& finding : report.findings)
      out_ += fmt::format("<p><span class=\"kind\">{}</span> {}</p>\n", name_of(finding.level),
                          html(finding.text));
    about(report);
    actions(report.plan);
    places(report);
    registry(report.plan);
    shortcuts(report.plan);
    list("Needs", report.plan.needs);
    list("Beside that", report.plan.notes);
    removal(report);
  }

  void sums(const PackageReport& report) {
    auto box = [&](const std::string& value, std::string_view label, bool alarm = false) {
      out_ += fmt::format("<div{}><b>{}</b><span>{}</span></div>\n", alarm ? " class=\"alarm\"" : "", value,
                          label);
    };
    out_ += "<div class=\"sums\">\n";
    box(grouped(report.files), "files");
    box(human_size(report.bytes), "unpacked");
    box(human_size(report.on_disk), "on disk");
    box(grouped(report.plan.actions.size()), "things that would run", !report.plan.actions.empty());
    box(grouped(report.plan.registry.size()), "registry values");
    box(grouped(report.plan.shortcuts.size()), "shortcuts");
    out_ += "</div>\n";
  }

  void about(const PackageReport& report) {
    if (report.plan.about.empty()) return;
    out_ += "<table>\n";
    for (const auto& [name, value] : report.plan.about)
      out_ += fmt::format("<tr><td class=\"name\">{}</td><td>{}</td></tr>\n", html(name), html(value));
    out_ += "</table>\n";
  }

  void actions(const Installation& plan) {
    out_ += "<h2>Would run</h2>\n";
    if (plan.actions.empty()) out_ += "<p>Nothing.</p>\n";
    for (const InstallAction& action : plan.actions) {
      std::string head =
          fmt::format("<span class=\"kind\">{}</span> {}", name_of(action.kind), html(action.name));
      if (!action.when.empty()) head += fmt::format(" <span class=\"soft\">{}</span>", html(action.when));
      std::string command = action.command.empty() || action.command == action.name
                                ? ""
                                : fmt::format("<code>{}</code>", html(action.command));
      if (action.text.empty()) {
        out_ += fmt::format("<p>{}{}{}</p>\n", head, command.empty() ? "" : "<br>", command);
      } else {
        out_ += fmt::format("<details open><summary>{}</summary>{}<pre>{}</pre></details>\n", head, command,
                            html_lines(action.text));
      }
    }
  }

  void places(const PackageReport& report) {
    out_ += "<h2>Would put</h2>\n";
    if (report.places.empty()) out_ += "<p>No files.</p>\n";
    for (const InstalledPlace& place : report.places) {
      out_ += fmt::format(
          "<details open><summary><b class=\"path\">{}</b> <span class=\"soft\">{}, {}</span></summary>\n"
          "<table><tr><th>Path</th><th>Mode</th><th>Owner</th><th class=\"number\">Bytes</th></tr>\n",
          html(place.place), counted(place.files, "file", "files"), human_size(place.bytes));
      for (const InstalledItem& item : place.items) {
        std::string path = html(item.path) + (item.kind == EntryKind::folder ? "/" : "");
        if (!item.link_target.empty()) path += " &rarr; " + html(item.link_target);
        out_ += fmt::format(
            "<tr><td class=\"path\">{}</td><td>{}</td><td>{}</td><td class=\"number\">{}</td></tr>\n", path,
            item.mode == Entry::kNoMode ? "" : fmt::format("{:04o}", item.mode), html(item.owner),
            item.kind == EntryKind::file ? grouped(item.size) : "");
      }
      out_ += "</table></details>\n";
    }
  }

  void registry(const Installation& plan) {
    if (plan.registry.empty()) return;
    out_ += "<h2>Would write to the registry</h2>\n<table><tr><th>Key</th><th>Name</th><th>Value</th></tr>\n";
    for (const RegistryValue& value : plan.registry)
      out_ += fmt::format("<tr><td class=\"path\">{}</td><td>{}</td><td>{}</td></tr>\n", html(value.key),
                          html(value.name.empty() ? "(default)" : value.name), html(value.value));
    out_ += "</table>\n";
  }

  void shortcuts(const Installation& plan) {
    if (plan.shortcuts.empty()) return;
    out_ += "<h2>Would make shortcuts</h2>\n<table><tr><th>Shortcut</th><th>Leads to</th></tr>\n";
    for (const Shortcut& shortcut : plan.shortcuts)
      out_ += fmt::format("<tr><td class=\"path\">{}</td><td class=\"path\">{}</td></tr>\n",
                          html(shortcut.path), html(shortcut.target));
    out_ += "</table>\n";
  }

  void list(std::string_view title, const std::vector<std::string>& lines) {
    if (lines.empty()) return;
    out_ += fmt::format("<h2>{}</h2>\n<ul>\n", title);
    for (const std::string& line : lines) out_ += fmt::format("<li>{}</li>\n", html(line));
    out_ += "</ul>\n";
  }

  void removal(const PackageReport& report) {
    out_ += "<h2>To remove by hand</h2>\n";
    if (report.removal.empty()) {
      out_ += "<p>Nothing.</p>\n";
      return;
    }
    out_ += "<pre>";
    for (const std::string& path : report.removal)
      out_ += html(path) + (path.ends_with('/') ? " (if empty)\n" : "\n");
    for (const std::string& undo : report.undo) out_ += html(undo) + "\n";
    out_ += "</pre>\n";
  }

  std::string out_;
};

}  // namespace

std::string install_page(const std::vector<PackageReport>& reports, const std::string& target) {
  return Page().make(reports, target);
}

}  // namespace operculum
