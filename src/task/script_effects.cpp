#include "task/script_effects.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace operculum {
namespace {

constexpr std::size_t kMostTold = 100;

/// A command whose arguments tell what it makes.
struct Command {
  std::string_view word, first, sentence;  // first: an argument that must come first; empty: any
};
constexpr Command kCommands[] = {
    {"mkdir", "", "makes the folder"},
    {"install", "-d", "makes the folder"},
    {"touch", "", "makes the file"},
    {"useradd", "", "adds the user"},
    {"adduser", "", "adds the user"},
    {"groupadd", "", "adds the group"},
    {"addgroup", "", "adds the group"},
    {"ln", "", "makes the link"},
    {"update-alternatives", "--install", "adds the alternative"},
    {"systemctl", "enable", "enables the service"},
    {"deb-systemd-helper", "enable", "enables the service"},
    {"update-rc.d", "", "enables the service"},
    {"chkconfig", "--add", "enables the service"},
    {"dpkg-divert", "", "moves aside"},
    {"setcap", "", "gives rights with"},
    {"chown", "", "changes the owner with"},
    {"crontab", "", "sets times with"},
};

/// The words of a line up to where the command ends.
std::vector<std::string_view> words_of(std::string_view line) {
  std::vector<std::string_view> words;
  for (std::string_view word : split(line, ' ')) {
    word = trim(word);
    if (word.empty()) continue;
    if (word == "||" || word == "&&" || word == ";" || word == "|" || word.starts_with('>') ||
        word.starts_with("2>") || word.starts_with('#'))
      break;
    bool ends = word.ends_with(';');
    if (ends) word.remove_suffix(1);
    words.push_back(word);
    if (ends) break;
  }
  return words;
}

std::string effect_of(const std::vector<std::string_view>& words) {
  std::size_t begin = 0;
  constexpr std::string_view kBefore[] = {"if", "then", "else", "!", "sudo", "do", "exec"};
  while (begin < words.size() &&
         std::find(std::begin(kBefore), std::end(kBefore), words[begin]) != std::end(kBefore))
    ++begin;
  if (begin >= words.size()) return "";
  std::string_view name = words[begin].substr(words[begin].rfind('/') + 1);
  auto command = std::find_if(std::begin(kCommands), std::end(kCommands), [&](const Command& one) {
    return one.word == name &&
           (one.first.empty() || (begin + 1 < words.size() && words[begin + 1] == one.first));
  });
  if (command == std::end(kCommands)) return "";
  std::string arguments;
  for (std::size_t i = begin + 1 + (command->first.empty() ? 0 : 1); i < words.size(); ++i) {
    if (words[i].starts_with('-') && command->word != "setcap") continue;
    arguments += fmt::format("{}{}", arguments.empty() ? "" : " ", words[i]);
  }
  return arguments.empty() ? "" : fmt::format("{} {}", command->sentence, arguments);
}

}  // namespace

std::vector<std::string> script_effects(std::string_view text) {
  std::vector<std::string> effects;
  for (std::string_view line : split(text, '\n')) {
    std::string effect = effect_of(words_of(trim(line)));
    if (effect.empty() || std::find(effects.begin(), effects.end(), effect) != effects.end()) continue;
    effects.push_back(std::move(effect));
    if (effects.size() == kMostTold) break;
  }
  return effects;
}

}  // namespace operculum
