#include "cipher/key_ring.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <mutex>
#include <vector>

#include "base/error.h"
#include "base/glob.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr int kPromptTries = 3;

/// What is odd about the ends of a password that did not fit; empty when nothing is.
std::string blank_hint(const Key& key, const KeyRing::Test& fits) {
  std::string_view trimmed = trim(key.secret);
  if (!key.typed || trimmed.size() == key.secret.size()) return "";
  std::string_view place = key.secret.ends_with(trimmed)     ? "begins"
                           : key.secret.starts_with(trimmed) ? "ends"
                                                             : "begins and ends";
  std::string hint = fmt::format("; the password from {} {} with a blank", key.origin, place);
  if (fits(std::string(trimmed)) != KeyRing::Fit::no)
    hint += ", and without it it is right: remove the blank";
  return hint;
}

}  // namespace

struct KeyRing::State {
  struct Item {
    Key key;
    std::string pattern;
    std::string name = {};  // of a named key
    bool meant_for(const std::string& container) const {
      return pattern.empty() || Glob(pattern, Glob::Case::ignored).matches(container);
    }
  };
  std::optional<Key> ask(const std::string& container, const Test& fits, std::size_t& tried,
                         std::string& hint);

  std::mutex mutex;  // guards the rest
  std::vector<Item> items;
  Prompt prompt;
  std::map<std::string, int> prompts_left;  // of containers that were asked for
};

KeyRing::KeyRing() : state_(std::make_shared<State>()) {}

void KeyRing::set_prompt(Prompt prompt) {
  state_->prompt = std::move(prompt);
}

void KeyRing::add_named(const std::string& name, Key key, const std::string& pattern) {
  std::lock_guard lock(state_->mutex);
  state_->items.push_back({std::move(key), pattern, name});
}

Key KeyRing::find_named(const std::string& name, const std::string& container, const Test& fits) {
  bool wrong = false, passwords = false;
  {
    std::lock_guard lock(state_->mutex);
    for (const State::Item& item : state_->items) {
      if (!item.meant_for(container)) continue;
      if (item.name.empty()) passwords = true;
      if (item.name != name) continue;
      if (fits(item.key.secret) != Fit::no) return item.key;
      wrong = true;
    }
  }
  try {
    return find(container, fits);
  } catch (const NeedsKey&) {
    std::string_view why = wrong       ? "does not fit"
                           : passwords ? "is needed, and no password that was given is it"
                                       : "is needed";
    throw NeedsKey(
        fmt::format("the key \"{}\" {}; give it in keys.toml under that name, or with --password-file or in "
                    "OPERCULUM_PASSWORD",
                    escape(name), why));
  }
}

void KeyRing::add(Key key, const std::string& pattern) {
  std::lock_guard lock(state_->mutex);
  state_->items.push_back({std::move(key), pattern, ""});
}

Key KeyRing::find(const std::string& container, const Test& fits) {
  std::lock_guard lock(state_->mutex);
  std::string hint;
  std::size_t tried = 0;
  std::optional<std::size_t> perhaps;
  auto first = [this](std::size_t i) {
    auto place = state_->items.begin() + static_cast<std::ptrdiff_t>(i);
    std::rotate(state_->items.begin(), place, place + 1);
    return state_->items.front().key;
  };
  for (std::size_t i = 0; i < state_->items.size(); ++i) {
    const State::Item& item = state_->items[i];
    if (!item.name.empty() || !item.meant_for(container)) continue;
    ++tried;
    Fit fit = fits(item.key.secret);
    if (fit == Fit::yes) return first(i);
    if (fit == Fit::perhaps && !perhaps) perhaps = i;
    if (fit == Fit::no) hint += blank_hint(item.key, fits);
  }
  if (perhaps) return first(*perhaps);
  if (auto key = state_->ask(container, fits, tried, hint)) return *key;
  if (tried == 0) {
    throw NeedsKey(
        "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  }
  throw NeedsKey(fmt::format("wrong password ({} tried){}", tried, hint));
}

std::optional<Key> KeyRing::find_for_host(const std::string& host, const Test& fits) {
  std::lock_guard lock(state_->mutex);
  for (const State::Item& item : state_->items) {
    if (!item.pattern.empty() && item.meant_for(host) && fits(item.key.secret) != Fit::no) return item.key;
  }
  return std::nullopt;
}

std::optional<Key> KeyRing::State::ask(const std::string& container, const Test& fits, std::size_t& tried,
                                       std::string& hint) {
  int& left = prompts_left.try_emplace(container, kPromptTries).first->second;
  for (bool again = false; prompt && left > 0; again = true) {
    auto answer = prompt(container, again);
    if (!answer) {
      left = 0;
      return std::nullopt;
    }
    ++tried;
    Key key{*answer, "the prompt"};
    if (fits(key.secret) != Fit::no) {
      items.insert(items.begin(), {key, "", ""});
      return key;
    }
    hint = blank_hint(key, fits);
    --left;
  }
  return std::nullopt;
}

}  // namespace operculum
