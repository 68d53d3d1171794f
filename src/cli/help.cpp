#include "cli/help.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/output.h"
#include "report/text_table.h"

namespace operculum::cli {
namespace {

constexpr std::size_t kWidestName = 30;  // columns; a longer name has a line to itself

/// Names and what they mean, in two columns.
std::string two_columns(const std::vector<std::pair<std::string, std::string>>& rows) {
  std::size_t width = std::clamp<std::size_t>(terminal_width(1), 40, 120), names = 0;
  for (const auto& [name, text] : rows) {
    if (display_width(name) <= kWidestName) names = std::max(names, display_width(name));
  }
  std::size_t indent = names + 4;
  std::string out;
  for (const auto& [name, text] : rows) {
    out += "  " + padded(name, names + 2);
    if (display_width(name) > names) out += "\n" + std::string(indent, ' ');
    out += wrapped(text, width, indent) + "\n";
  }
  return out;
}

std::string option_name(const OptionHelp& option) {
  std::string names;
  for (std::string_view name : split(option.names, ',')) {
    if (name.starts_with('!')) continue;  // the flag's opposite
    names += fmt::format("{}{}", names.empty() ? "" : ", ", name);
  }
  return option.type.empty() ? names : names + " " + option.type;
}

/// Options under the titles of their groups, in the order in which these first occur.
std::string groups_of(const std::vector<OptionHelp>& options, const std::string& title_of_none) {
  std::vector<std::string> groups;
  for (const OptionHelp& option : options) {
    if (std::find(groups.begin(), groups.end(), option.group) == groups.end()) groups.push_back(option.group);
  }
  std::string out;
  for (const std::string& group : groups) {
    std::vector<std::pair<std::string, std::string>> rows;
    for (const OptionHelp& option : options) {
      if (option.group == group) rows.emplace_back(option_name(option), option.text);
    }
    out += fmt::format("\n{}:\n{}", group.empty() ? title_of_none : group, two_columns(rows));
  }
  return out;
}

bool is_option(const OptionHelp& option) {
  return option.names.starts_with('-');
}

}  // namespace

std::string program_help(const std::string& about, const std::vector<CommandHelp>& commands,
                         const std::vector<OptionHelp>& everywhere) {
  std::string out = wrapped(about, terminal_width(1), 0) + "\n";
  out += "\nuse:\n  operculum COMMAND [OPTIONS] TARGET...\n  operculum FILE...      the same as identify\n";
  out +=
      "\nA TARGET is a file, or a path that goes on into containers: card.img/kiosk.zip/textures/crab.png\n";
  std::vector<std::pair<std::string, std::string>> rows;
  for (const CommandHelp& command : commands) rows.emplace_back(command.name, command.summary);
  out += "\ncommands:\n" + two_columns(rows);
  out += groups_of(everywhere, "everywhere");
  return out + "\n`operculum COMMAND --help` tells the rest.\n";
}

std::string command_help(const CommandHelp& command, const std::vector<OptionHelp>& options,
                         const std::vector<CommandHelp>& all, const std::vector<OptionHelp>& everywhere) {
  std::string out = wrapped(command.summary, terminal_width(1), 0) + "\n\nuse:\n  operculum " + command.name;
  std::vector<OptionHelp> own;
  std::vector<std::pair<std::string, std::string>> arguments, within;
  for (const OptionHelp& option : options) {
    if (is_option(option)) {
      own.push_back(option);
    } else {
      arguments.emplace_back(option.names, option.text);
    }
  }
  for (const CommandHelp& other : all) {
    if (other.name.starts_with(command.name + " ")) within.emplace_back(other.name, other.summary);
  }
  if (!within.empty()) out += " COMMAND";
  if (!own.empty()) out += " [OPTIONS]";
  for (const auto& [name, text] : arguments) out += " " + name;
  out += "\n";
  if (!command.examples.empty())
    out += fmt::format("\nexamples:\n  {}\n", fmt::join(command.examples, "\n  "));
  if (!within.empty()) out += "\ncommands:\n" + two_columns(within);
  if (!arguments.empty()) out += "\narguments:\n" + two_columns(arguments);
  return out + groups_of(own, "options") + groups_of(everywhere, "everywhere");
}

}  // namespace operculum::cli
