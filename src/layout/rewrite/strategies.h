#pragma once

#include <optional>

#include "layout/rewrite/attempt.h"

namespace operculum::layout {

/// Where new content may go, in the order in which that is tried.
std::span<const Strategy> strategies();

/// Tries ways until one leads to a result; the reason why the first one did not tells most. `telling`: not of
/// those that are only tried because they would cost less.
class Trial {
 public:
  explicit Trial(const DescribedFile& file) : title_(file.plan->title) {}

  template <typename Way>
  std::optional<Made> attempt(Way way, bool telling = true) {
    try {
      return way();
    } catch (const Unsupported& error) {
      if (reason_.empty() && telling) reason_ = error.what();
    } catch (const Malformed& error) {
      if (reason_.empty() && telling) reason_ = unreadable(error.what());
    }
    return std::nullopt;
  }

  [[noreturn]] void fail(const std::string& otherwise) const;  ///< `otherwise`: where nothing was tried

 private:
  std::string unreadable(const std::string& why) const;

  std::string title_, reason_;
};

/// What an error of the kind Unsupported says behind that word.
std::string without_prefix(const std::string& text);

/// Contents alone, in the first way that leads there; nothing where none does, and `trial` knows why.
std::optional<Made> by_any_strategy(Survey& survey, const std::map<std::size_t, PackedEntry>& packed,
                                    Trial& trial);

}  // namespace operculum::layout
