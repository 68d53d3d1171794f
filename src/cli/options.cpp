#include "cli/options.h"

#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <map>
#include <utility>

#include "base/nearest.h"
#include "base/text.h"
#include "base/units.h"
#include "cli/help.h"
#include "container/locator.h"

namespace operculum::cli {

struct Options::Parser {
  CLI::App* app;
  std::vector<OptionHelp>* help;   ///< what was declared; owned by the CommandLine
  std::function<void()>* command;  ///< likewise: the one that was chosen
};

namespace {

/// Reads a number, decimal or with 0x; rewrites it as decimal.
std::string number_check(std::string& text) {
  bool hexadecimal = text.starts_with("0x");
  auto value = hexadecimal ? parse_number(std::string_view(text).substr(2), 16) : parse_number(text);
  if (!value) return fmt::format("expected a number, found \"{}\"", escape(text));
  text = std::to_string(*value);
  return "";
}

std::string size_check(std::string& text) {
  auto size = parse_size(text);
  if (!size) return fmt::format("expected a size such as 4096, 64K or 2GiB, found \"{}\"", escape(text));
  text = std::to_string(*size);
  return "";
}

std::string_view nearest_of(std::string_view word, const std::vector<std::string>& known) {
  std::vector<std::string_view> words(known.begin(), known.end());
  return nearest(word, words);
}

/// Refuses what is not among `known`, which is named then.
std::function<std::string(std::string&)> among(std::vector<std::string> known) {
  return [known = std::move(known)](std::string& word) -> std::string {
    if (std::find(known.begin(), known.end(), word) != known.end()) return "";
    std::string_view meant = nearest_of(word, known);
    return fmt::format("\"{}\" cannot be chosen; it may be one of: {}{}", escape(word),
                       fmt::join(known, ", "),
                       meant.empty() ? "" : fmt::format(" (did you mean {}?)", meant));
  };
}

}  // namespace

Options::Options(std::unique_ptr<Parser> parser) : parser_(std::move(parser)) {}
Options::Options(Options&&) noexcept = default;
Options::~Options() = default;

void Options::note(const std::string& names, const std::string& type, const std::string& text) {
  parser_->help->push_back({names, type, text, group_});
}

void Options::argument(const std::string& name, std::string& value, const std::string& text, Needed needed) {
  parser_->app->add_option(name, value)->required(needed == Needed::yes);
  note(needed == Needed::yes ? name : "[" + name + "]", "", text);
}

void Options::arguments(const std::string& name, std::vector<std::string>& values, const std::string& text,
                        Needed needed) {
  parser_->app->add_option(name, values)->required(needed == Needed::yes);
  note(needed == Needed::yes ? name + "..." : "[" + name + "...]", "", text);
}

void Options::flag(const std::string& names, bool& value, const std::string& text) {
  parser_->app->add_flag(names, value);
  note(names, "", text);
}

void Options::text(const std::string& names, std::string& value, const std::string& type,
                   const std::string& text) {
  parser_->app->add_option(names, value);
  note(names, type, text);
}

void Options::texts(const std::string& names, std::vector<std::string>& values, const std::string& type,
                    const std::string& text) {
  parser_->app->add_option(names, values)->allow_extra_args(false);
  note(names, type, text);
}

void Options::number(const std::string& names, std::uint64_t& value, const std::string& text) {
  parser_->app->add_option(names, value)->transform(CLI::Validator(number_check, ""));
  note(names, "N", text);
}

void Options::number(const std::string& names, unsigned& value, const std::string& text) {
  parser_->app->add_option(names, value)->transform(CLI::Validator(number_check, ""));
  note(names, "N", text);
}

void Options::size(const std::string& names, std::uint64_t& value, const std::string& text) {
  parser_->app->add_option(names, value)->transform(CLI::Validator(size_check, ""));
  note(names, "SIZE", text);
}

void Options::words(const std::string& names, std::vector<std::string>& values,
                    std::vector<std::string> known, const std::string& type, const std::string& text) {
  parser_->app->add_option(names, values)->delimiter(',')->check(CLI::Validator(among(std::move(known)), ""));
  note(names, type, text);
}

void Options::choice_by_word(const std::string& names, std::vector<std::string> known,
                             const std::string& text, std::function<void(std::string_view)> chosen) {
  constexpr std::size_t kMostShown = 4;  // words that a column has room for
  if (known.size() <= kMostShown) {
    note(names, fmt::format("{}", fmt::join(known, "|")), text);
  } else {
    note(names, "WORD", fmt::format("{}; one of {}", text, fmt::join(known, ", ")));
  }
  parser_->app
      ->add_option_function<std::string>(
          names, [chosen = std::move(chosen)](const std::string& word) { chosen(word); })
      ->check(CLI::Validator(among(std::move(known)), ""));
}

void Options::at_most_one(const std::vector<std::string>& names) {
  for (const std::string& one : names) {
    for (const std::string& other : names) {
      if (one != other) parser_->app->get_option(one)->excludes(parser_->app->get_option(other));
    }
  }
}

void Options::run(std::function<void()> command) {
  CLI::App* app = parser_->app;
  app->callback([app, command = std::move(command), chosen = parser_->command] {
    if (app->get_subcommands().empty()) *chosen = command;  // else an inner command was chosen
  });
}

struct CommandLine::State {
  explicit State(std::string about_text) : app("", "operculum"), about(std::move(about_text)) {}

  /// A command, with what is told of it.
  struct Command {
    CLI::App* app;
    CommandHelp help;
    std::vector<OptionHelp> options;
  };

  /// "layout check" for a command within another.
  const Command* parsed() const {
    const Command* found = nullptr;
    for (const auto& [name, command] : commands) {
      if (command.app->parsed() && (found == nullptr || name.size() > found->help.name.size()))
        found = &command;
    }
    return found;
  }

  std::vector<std::string> command_names() const {
    std::vector<std::string> names;
    for (const auto& [name, command] : commands) {
      if (name.find(' ') == std::string::npos) names.push_back(name);
    }
    return names;
  }

  Options options_of(CLI::App& of, std::vector<OptionHelp>& declared) {
    return Options(std::make_unique<Options::Parser>(Options::Parser{&of, &declared, &chosen}));
  }

  std::string help() const {
    std::vector<CommandHelp> all;
    for (const std::string& name : order) all.push_back(commands.at(name).help);
    const Command* one = parsed();
    return one == nullptr ? program_help(about, all, everywhere)
                          : command_help(one->help, one->options, all, everywhere);
  }

  CLI::App app;
  std::string about, version;
  std::vector<OptionHelp> everywhere;
  std::map<std::string, Command> commands;
  std::vector<std::string> order;  // of the commands in the help
  std::function<void()> chosen;
};

CommandLine::CommandLine(std::string about, std::string version)
    : state_(std::make_unique<State>(std::move(about))) {
  state_->version = std::move(version);
  state_->app.set_version_flag("--version", state_->version);
  state_->app.require_subcommand(1);
  state_->app.fallthrough();
}

CommandLine::~CommandLine() = default;

Options CommandLine::everywhere() {
  return state_->options_of(state_->app, state_->everywhere);
}

void CommandLine::config_file(std::string path) {
  state_->app.set_config("--config", std::move(path));
  state_->everywhere.push_back(
      {"--config", "FILE", "Read option defaults from this TOML file", "everywhere"});
}

Options CommandLine::command(CommandHelp help) {
  std::string name = help.name;
  CLI::App* app = state_->app.add_subcommand(name);
  State::Command& command = state_->commands[name] = {app, std::move(help), {}};
  state_->order.push_back(name);
  return state_->options_of(*app, command.options);
}

Options CommandLine::command_within(const std::string& outer, CommandHelp help, Outer kind) {
  CLI::App* group = state_->commands.at(outer).app;
  group->require_subcommand(kind == Outer::needs_one ? 1 : 0, 1);
  group->fallthrough();
  CLI::App* app = group->add_subcommand(help.name);
  std::string name = outer + " " + help.name;
  help.name = name;
  State::Command& command = state_->commands[name] = {app, std::move(help), {}};
  state_->order.push_back(name);
  return state_->options_of(*app, command.options);
}

namespace {

/// The names of options, each by itself: "-q,--quiet" gives two.
void add_names(const std::vector<OptionHelp>& options, std::vector<std::string>& names) {
  for (const OptionHelp& option : options) {
    for (std::string_view name : split(option.names, ',')) {
      if (name.starts_with('-')) names.emplace_back(name);
    }
  }
}

/// What is said of words that no option or argument takes.
std::string unexpected(const std::vector<std::string>& words, const std::string& command,
                       const std::vector<std::string>& known) {
  auto option =
      std::find_if(words.begin(), words.end(), [](const std::string& word) { return word.starts_with('-'); });
  if (option == words.end())
    return fmt::format("\"{}\" is one word more than {} takes", escape(words.front()), command);
  std::string word = option->substr(0, option->find('='));
  std::string_view meant = nearest_of(word, known);
  return fmt::format("{} has no option {}{}", command, escape(word),
                     meant.empty() ? "" : fmt::format("; did you mean {}?", meant));
}

/// Whether a word begins with a file or folder that is there.
bool names_something(const std::string& word) {
  return access(word.c_str(), F_OK) == 0 || !file_of(word).empty();
}

}  // namespace

CommandLine::Chosen CommandLine::read(std::vector<std::string> words) {
  std::vector<std::string> commands = state_->command_names();
  auto is_command = [&](const std::string& word) {
    return std::find(commands.begin(), commands.end(), word) != commands.end();
  };
  bool plain = std::none_of(words.begin(), words.end(), is_command);
  auto named = std::find_if(words.begin(), words.end(),
                            [](const std::string& word) { return !word.starts_with('-'); });
  if (words.empty())
    throw UsageError{"name a command, or a file to identify; `operculum --help` lists the commands"};
  if (plain && std::any_of(words.begin(), words.end(), names_something)) {
    words.insert(words.begin(), "identify");
  } else if (plain && named == words.begin()) {
    std::string_view meant = nearest_of(words.front(), commands);
    throw UsageError{fmt::format(
        "\"{}\" is neither a command nor a file{}; `operculum --help` lists the commands",
        escape(words.front()), meant.empty() ? "" : fmt::format(" (did you mean `operculum {}`?)", meant))};
  }
  for (std::string& word : words) {
    if (word.starts_with("-/")) word.replace(0, 1, "/dev/stdin");  // the parser takes it for an option
  }
  std::reverse(words.begin(), words.end());
  try {
    state_->app.parse(std::move(words));
    return {{}, state_->chosen};
  } catch (const CLI::CallForHelp&) {
    return {state_->help(), {}};
  } catch (const CLI::CallForVersion&) {
    return {state_->version + "\n", {}};
  } catch (const CLI::ParseError& error) {
    const State::Command* command = state_->parsed();
    std::string name = command == nullptr ? "operculum" : "operculum " + command->help.name;
    std::string sentence = printable(error.what());  // which has words of the command line as they are
    if (dynamic_cast<const CLI::ExtrasError*>(&error) != nullptr) {
      std::vector<std::string> known = {"--help", "--version"};
      add_names(state_->everywhere, known);
      if (command != nullptr) add_names(command->options, known);
      sentence = unexpected(state_->app.remaining(true), name, known);
    } else if (dynamic_cast<const CLI::RequiredError*>(&error) != nullptr) {
      if (std::size_t end = sentence.find(" is required"); end != std::string::npos && command != nullptr)
        sentence = fmt::format("{} needs {}", name, sentence.substr(0, end));
    }
    throw UsageError{fmt::format("{}; `{} --help` shows how it is used", sentence, name)};
  }
}

}  // namespace operculum::cli
