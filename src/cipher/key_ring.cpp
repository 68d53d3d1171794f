#include "cipher/key_ring.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/glob.h"
#include "base/text.h"

namespace operculum {
namespace {

constexpr int kPromptTries = 3;

/// What is odd about the ends of a password that did not fit; empty when nothing is.
std::string blank_hint(const Key& key, const KeyRing::Test& fits) {
  std::string_view trimmed = trim(key.secret);
  if (trimmed.size() == key.secret.size()) return "";
  std::string_view place = key.secret.ends_with(trimmed)     ? "begins"
                           : key.secret.starts_with(trimmed) ? "ends"
                                                             : "begins and ends";
  std::string hint = fmt::format("; the password from {} {} with a blank", key.origin, place);
  if (fits(std::string(trimmed)) != KeyRing::Fit::no)
    hint += ", and without it it is right: remove the blank";
  return hint;
}

}  // namespace

bool KeyRing::Item::meant_for(const std::string& container) const {
  return pattern.empty() || Glob(pattern, Glob::Case::ignored).matches(container);
}

void KeyRing::add_named(const std::string& name, Key key, const std::string& pattern) {
  std::lock_guard lock(mutex_);
  items_.push_back({std::move(key), pattern, name});
}

Key KeyRing::find_named(const std::string& name, const std::string& container, const Test& fits) {
  bool wrong = false;
  {
    std::lock_guard lock(mutex_);
    for (const Item& item : items_) {
      if (item.name != name || !item.meant_for(container)) continue;
      if (fits(item.key.secret) != Fit::no) return item.key;
      wrong = true;
    }
  }
  try {
    return find(container, fits);
  } catch (const NeedsKey& error) {
    throw NeedsKey(fmt::format("the key \"{}\" {}: {}; keys.toml can hold it under that name", escape(name),
                               wrong ? "does not fit" : "is needed", error.what()));
  }
}

void KeyRing::add(Key key, const std::string& pattern) {
  std::lock_guard lock(mutex_);
  items_.push_back({std::move(key), pattern, ""});
}

Key KeyRing::find(const std::string& container, const Test& fits) {
  std::lock_guard lock(mutex_);
  std::string hint;
  std::size_t tried = 0;
  std::optional<std::size_t> perhaps;
  auto first = [this](std::size_t i) {
    auto place = items_.begin() + static_cast<std::ptrdiff_t>(i);
    std::rotate(items_.begin(), place, place + 1);
    return items_.front().key;
  };
  for (std::size_t i = 0; i < items_.size(); ++i) {
    const Item& item = items_[i];
    if (!item.name.empty() || !item.meant_for(container)) continue;
    ++tried;
    Fit fit = fits(item.key.secret);
    if (fit == Fit::yes) return first(i);
    if (fit == Fit::perhaps && !perhaps) perhaps = i;
    if (fit == Fit::no) hint += blank_hint(item.key, fits);
  }
  if (perhaps) return first(*perhaps);
  if (auto key = ask(container, fits, tried, hint)) return *key;
  if (tried == 0) {
    throw NeedsKey(
        "a password is needed; give it with --password-file, in OPERCULUM_PASSWORD or in keys.toml");
  }
  throw NeedsKey(fmt::format("wrong password ({} tried){}", tried, hint));
}

std::optional<Key> KeyRing::ask(const std::string& container, const Test& fits, std::size_t& tried,
                                std::string& hint) {
  int& left = prompts_left_.try_emplace(container, kPromptTries).first->second;
  for (bool again = false; prompt_ && left > 0; again = true) {
    auto answer = prompt_(container, again);
    if (!answer) {
      left = 0;
      return std::nullopt;
    }
    ++tried;
    Key key{*answer, "the prompt"};
    if (fits(key.secret) != Fit::no) {
      items_.insert(items_.begin(), {key, "", ""});
      return key;
    }
    hint = blank_hint(key, fits);
    --left;
  }
  return std::nullopt;
}

}  // namespace operculum
