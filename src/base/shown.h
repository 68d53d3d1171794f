#pragma once

#include <fmt/format.h>

#include <string>
#include <string_view>
#include <type_traits>
#include <utility>

#include "base/text.h"

namespace operculum {

/// Text that may go to a terminal: nothing in it moves a cursor, turns the direction of writing or is no
/// UTF-8, but what we put there ourselves. Only this type is written there; words out of a container become
/// it by being made printable, as arguments of shown() do without being asked.
class Shown {
 public:
  Shown() = default;
  /// Words of ours, line ends and all.
  template <std::size_t Size>
  Shown(const char (&literal)[Size]) : text_(literal, Size - 1) {}
  /// One line of anybody's words, made printable.
  explicit Shown(std::string_view untrusted) : text_(printable(untrusted)) {}
  /// Several lines of anybody's words, each made printable.
  static Shown lines(std::string_view untrusted);
  /// What code of ours made of parts that it escaped itself: JSON, CSV, readable text, styles of a terminal.
  static Shown made(std::string safe);

  const std::string& text() const { return text_; }
  bool empty() const { return text_.empty(); }

  Shown& operator+=(const Shown& more) {
    text_ += more.text_;
    return *this;
  }
  friend Shown operator+(Shown a, const Shown& b) { return std::move(a += b); }
  bool operator==(const Shown&) const = default;

 private:
  std::string text_;
};

namespace detail {

template <typename Argument>
constexpr bool is_words = std::is_convertible_v<const Argument&, std::string_view>;
template <typename Argument>
struct ShownAs {
  using type = std::conditional_t<is_words<Argument>, std::string, Argument>;
};
template <typename Argument>
decltype(auto) as_shown(const Argument& argument) {
  if constexpr (is_words<Argument>) {
    return printable(argument);
  } else {
    return (argument);
  }
}

}  // namespace detail

/// Words of ours with values between them; what of these are words is made printable, one line each.
template <typename... Arguments>
Shown shown(fmt::format_string<typename detail::ShownAs<Arguments>::type...> form,
            const Arguments&... arguments) {
  return Shown::made(fmt::vformat(form, fmt::make_format_args(detail::as_shown(arguments)...)));
}

}  // namespace operculum

/// Within other words.
template <>
struct fmt::formatter<operculum::Shown> : fmt::formatter<std::string_view> {
  template <typename Context>
  auto format(const operculum::Shown& text, Context& context) const {
    return fmt::formatter<std::string_view>::format(text.text(), context);
  }
};
