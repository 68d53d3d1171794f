#include <fmt/format.h>

#include "base/text.h"
#include "base/units.h"
#include "report/html.h"
#include "report/install_text.h"
#include "report/records.h"

namespace operculum {
namespace {

class Page {
 public:
  std::string make(const std::vector<PackageReport>& reports, const std::string& target) {
    out_ = page_head("Install report: " + target);
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
    if (!report.plan.writes.empty()) return writes(report.plan);
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
    if (!report.plan.writes.empty()) {
      box(grouped(report.plan.writes.size()), "ranges that would be written");
      box(human_size(report.bytes), "in all");
      out_ += "</div>\n";
      return;
    }
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

  void writes(const Installation& plan) {
    out_ += "<h2>Would write</h2>\n<table><tr><th>To</th><th>From</th><th class=\"number\">Bytes</th></tr>\n";
    for (const MemoryWrite& write : plan.writes)
      out_ += fmt::format("<tr><td>{}</td><td class=\"path\">{}</td><td class=\"number\">{}</td></tr>\n",
                          html(write.to), html(write.from), grouped(write.size));
    out_ += "</table>\n";
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
