#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>

namespace operculum {

/// A password and where it came from ("the password file", "keys.toml", "the prompt"), for messages.
struct Key {
  std::string secret;
  std::string origin;
  bool typed = true;  ///< a blank at its ends may be a mistake
};

/// The passwords at hand. Containers ask it for candidates and tell which one fitted. Copies are the same
/// ring. Safe to share between threads.
class KeyRing {
 public:
  KeyRing();

  /// `pattern` is a glob on container names for which the key is meant; empty for any.
  void add(Key key, const std::string& pattern = "");

  /// How well a secret fits what it is to open.
  enum class Fit {
    no,
    perhaps,  ///< a short check fits, nothing stronger could be tried or it found damage
    yes,
  };
  using Test = std::function<Fit(const std::string& secret)>;

  /// Asks a person for the password of `container`, `again` when the last answer was wrong; nothing when they
  /// give none.
  using Prompt = std::function<std::optional<std::string>(const std::string& container, bool again)>;
  void set_prompt(Prompt prompt);

  /// Finds a key for something in `container`: what fits before what fits perhaps, those that fitted last
  /// first, then the prompt, with three wrong answers for a container at most; who gives none is not asked
  /// again. Throws NeedsKey that says whether none was given or none fitted, and points out blanks at the
  /// ends.
  Key find(const std::string& container, const Test& fits);

  /// Finds a key whose pattern names `host`: a key for anything must never be shown to a server. Nothing when
  /// there is none that fits.
  std::optional<Key> find_for_host(const std::string& host, const Test& fits);

  /// Adds a key with a name of its own, as descriptions of formats ask for. The secret is used as it is.
  void add_named(const std::string& name, Key key, const std::string& pattern = "");

  /// Finds a named key for `container` that `fits`; without one of that name, passwords and the prompt are
  /// tried. Throws NeedsKey.
  Key find_named(const std::string& name, const std::string& container, const Test& fits);

 private:
  struct State;
  std::shared_ptr<State> state_;
};

}  // namespace operculum
