#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace operculum::cli {

/// One option or argument as `--help` shows it.
struct OptionHelp {
  std::string names;  ///< "-q,--quiet"; of an argument its name alone
  std::string type;   ///< "FILE"; empty for flags
  std::string text;
  std::string group;  ///< empty: the command's own
};

/// A word that can be chosen, and what it stands for.
template <typename Value>
struct Choice {
  std::string_view word;
  Value value;
};

/// A problem with the command line that shows only when a command begins; ends it with exit code 2.
struct UsageError {
  std::string sentence;
};

/// The options of one command, declared before the command line is read; where their values go must live
/// until then. Hides the option parser, which options.cpp alone includes.
class Options {
 public:
  struct Parser;  ///< one command of the option parser
  explicit Options(std::unique_ptr<Parser> parser);
  Options(Options&&) noexcept;
  Options& operator=(Options&&) = delete;
  ~Options();

  enum class Needed { yes, no };
  void argument(const std::string& name, std::string& value, const std::string& text,
                Needed needed = Needed::yes);
  void arguments(const std::string& name, std::vector<std::string>& values, const std::string& text,
                 Needed needed = Needed::yes);

  void flag(const std::string& names, bool& value, const std::string& text);
  void text(const std::string& names, std::string& value, const std::string& type, const std::string& text);
  void texts(const std::string& names, std::vector<std::string>& values, const std::string& type,
             const std::string& text);
  void number(const std::string& names, std::uint64_t& value, const std::string& text);
  void number(const std::string& names, unsigned& value, const std::string& text);
  void size(const std::string& names, std::uint64_t& value, const std::string& text);  ///< bytes, with units

  /// Words out of a list, separated by commas.
  void words(const std::string& names, std::vector<std::string>& values, std::vector<std::string> known,
             const std::string& type, const std::string& text);

  /// One word of a list.
  template <typename Value>
  void choice(const std::string& names, Value& value, std::span<const Choice<Value>> choices,
              const std::string& text) {
    std::vector<std::string> known;
    for (const Choice<Value>& one : choices) known.emplace_back(one.word);
    choice_by_word(names, std::move(known), text, [&value, choices](std::string_view word) {
      for (const Choice<Value>& one : choices) {
        if (one.word == word) value = one.value;
      }
    });
  }
  /// One word of `known`, which may be empty until the option is used.
  void choice_by_word(const std::string& names, std::vector<std::string> known, const std::string& text,
                      std::function<void(std::string_view)> chosen);

  /// Of these options, all declared, at most one may be given.
  void at_most_one(const std::vector<std::string>& names);

  /// What is declared from here on belongs to this group of the help.
  void group(const std::string& name) { group_ = name; }

  void run(std::function<void()> command);  ///< what happens when this command is chosen

 private:
  void note(const std::string& names, const std::string& type, const std::string& text);

  std::unique_ptr<Parser> parser_;
  std::string group_;
};

/// What a command is, for `--help`.
struct CommandHelp {
  std::string name;
  std::string summary;
  std::vector<std::string> examples;  ///< two whole command lines
};

/// The whole command line: commands, and options that work with each of them.
class CommandLine {
 public:
  CommandLine(std::string about, std::string version);
  ~CommandLine();
  CommandLine(const CommandLine&) = delete;
  CommandLine& operator=(const CommandLine&) = delete;

  Options everywhere();                ///< options of every command; defaults are read from a TOML file
  void config_file(std::string path);  ///< the default of --config
  Options command(CommandHelp help);
  /// A command that is a word behind another one: "check" of "layout".
  enum class Outer {
    needs_one,     ///< the outer word does nothing by itself
    stands_alone,  ///< it is a command, too, whose run() is passed over when an inner one is named
  };
  Options command_within(const std::string& outer, CommandHelp help, Outer kind = Outer::needs_one);

  /// What a command line asks for.
  struct Chosen {
    std::string text;               ///< to be printed instead of a command's data: help, version
    std::function<void()> command;  ///< null where there is a text; valid as long as the CommandLine
  };
  /// Reads the words behind the program's name. A first word that is no command but names something on disk
  /// is identified. Throws UsageError.
  Chosen read(std::vector<std::string> words);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace operculum::cli
