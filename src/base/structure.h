#pragma once

#include <fmt/format.h>

#include <array>
#include <bit>
#include <concepts>
#include <cstring>
#include <string_view>
#include <type_traits>
#include <utility>

#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"

namespace operculum {

// A structure on disk is declared once, as a constant `layout` of the struct that holds it in memory: the
// fields in their order, with the specification's names. From that declaration it is read, written, and named
// in messages:
//
//   struct EndRecord {
//     std::uint32_t signature = 0;
//     std::uint16_t disk = 0;
//     static constexpr auto layout =
//         little_endian(field("end of central dir signature", &EndRecord::signature),
//                       field("number of this disk", &EndRecord::disk));
//   };

/// A number: the name that the specification gives it, the member that holds it, and its width in bytes.
template <typename S, std::unsigned_integral T, std::size_t Width>
struct NumberField {
  static constexpr std::size_t width = Width;
  static constexpr std::size_t begin(std::size_t at) { return at; }
  std::string_view name;
  T S::*member;
};

/// A number as wide as its member.
template <typename S, std::unsigned_integral T>
constexpr NumberField<S, T, sizeof(T)> field(std::string_view name, T S::*member) {
  return {name, member};
}

/// A number that takes fewer bytes on disk than its member has; a value that does not fit must not be
/// written.
template <std::size_t Width, typename S, std::unsigned_integral T>
constexpr NumberField<S, T, Width> narrow_field(std::string_view name, T S::*member) {
  static_assert(Width < sizeof(T));
  return {name, member};
}

/// Bytes kept as they are.
template <typename S, std::size_t Count>
struct BytesField {
  static constexpr std::size_t width = Count;
  static constexpr std::size_t begin(std::size_t at) { return at; }
  std::string_view name;
  std::array<Byte, Count> S::*member;
};
template <typename S, std::size_t Count>
constexpr BytesField<S, Count> field(std::string_view name, std::array<Byte, Count> S::*member) {
  return {name, member};
}

/// A number that stands there in both byte orders, little-endian first. Read is the first.
template <typename S, std::unsigned_integral T>
struct BothOrdersField {
  static constexpr std::size_t width = 2 * sizeof(T);
  static constexpr std::size_t begin(std::size_t at) { return at; }
  static constexpr bool in_both_orders = true;
  std::string_view name;
  T S::*member;
};
template <typename S, std::unsigned_integral T>
constexpr BothOrdersField<S, T> both_orders(std::string_view name, T S::*member) {
  static_assert(sizeof(T) <= sizeof(std::uint32_t));
  return {name, member};
}

/// The next field lies `At` bytes into the structure; what is between is not looked at, and written as zeros.
template <std::size_t At>
struct Onwards {
  static constexpr std::size_t width = 0;
  static constexpr std::size_t begin(std::size_t) { return At; }
};
template <std::size_t At>
constexpr Onwards<At> from_byte() {
  return {};
}

/// What is called for each field has to become part of its caller: places are constants then, and reading a
/// structure is as many loads as it has fields.
#ifdef NDEBUG
#define OPERCULUM_FOR_EACH_FIELD __attribute__((always_inline))
#else
#define OPERCULUM_FOR_EACH_FIELD
#endif

namespace detail {

// Fields of several types side by side: what std::tuple is, without the overloads that take so long to
// compile.
template <std::size_t Index, typename Field>
struct Place {
  Field field;
};
template <typename Indices, typename... Fields>
struct Places;
template <std::size_t... Index, typename... Fields>
struct Places<std::index_sequence<Index...>, Fields...> : Place<Index, Fields>... {
  /// Calls `step(field)` for each, in order.
  template <typename Step>
  OPERCULUM_FOR_EACH_FIELD constexpr void each(Step step) const {
    (step(static_cast<const Place<Index, Fields>&>(*this).field), ...);
  }
};

}  // namespace detail

/// Fields in their order.
template <std::endian Order, typename... Fields>
struct StructureLayout {
  static constexpr std::endian order = Order;
  detail::Places<std::index_sequence_for<Fields...>, Fields...> fields;

  /// In bytes, up to the end of the last field.
  static constexpr std::size_t size() {
    std::size_t at = 0;
    ((at = Fields::begin(at) + Fields::width), ...);
    return at;
  }

  /// Calls `visit(field, at)` for each field that holds something.
  template <typename Visit>
  OPERCULUM_FOR_EACH_FIELD constexpr void each(Visit visit) const {
    std::size_t at = 0;
    fields.each([&](const auto& part) OPERCULUM_FOR_EACH_FIELD {
      at = part.begin(at);
      if constexpr (requires { part.member; }) visit(part, at);
      at += part.width;
    });
  }
};

template <typename... Fields>
constexpr StructureLayout<std::endian::little, Fields...> little_endian(Fields... fields) {
  return {{{fields}...}};
}
template <typename... Fields>
constexpr StructureLayout<std::endian::big, Fields...> big_endian(Fields... fields) {
  return {{{fields}...}};
}

/// What a structure takes on disk, in bytes.
template <typename S>
inline constexpr std::size_t size_on_disk = decltype(S::layout)::size();

namespace detail {

template <std::endian Order, std::size_t Width>
std::uint64_t load(const Byte* bytes) {
  std::uint64_t value = 0;
  if constexpr (Order == std::endian::little && Width == sizeof(std::uint64_t)) {
    return load_little<std::uint64_t>(bytes);
  } else if constexpr (Order == std::endian::little && Width == sizeof(std::uint32_t)) {
    return load_little<std::uint32_t>(bytes);
  } else if constexpr (Order == std::endian::little && Width == sizeof(std::uint16_t)) {
    return load_little<std::uint16_t>(bytes);
  } else {
    for (std::size_t i = 0; i < Width; ++i) {
      std::size_t at = Order == std::endian::little ? Width - 1 - i : i;
      value = (value << 8) | bytes[at];
    }
    return value;
  }
}

template <std::endian Order, std::size_t Width>
void store(Byte* bytes, std::uint64_t value) {
  for (std::size_t i = 0; i < Width; ++i) {
    std::size_t at = Order == std::endian::little ? i : Width - 1 - i;
    bytes[at] = static_cast<Byte>(value >> (8 * i));
  }
}

/// A field out of its bytes.
template <std::endian Order, typename Field, typename Member>
void load_field(const Field&, const Byte* bytes, Member& member) {
  if constexpr (requires { member.data(); }) {
    std::memcpy(member.data(), bytes, Field::width);
  } else if constexpr (requires { Field::in_both_orders; }) {
    member = static_cast<Member>(load<std::endian::little, Field::width / 2>(bytes));
  } else {
    member = static_cast<Member>(load<Order, Field::width>(bytes));
  }
}

template <std::endian Order, typename Field, typename Member>
void store_field(const Field&, Byte* bytes, const Member& member) {
  if constexpr (requires { member.data(); }) {
    std::memcpy(bytes, member.data(), Field::width);
  } else if constexpr (requires { Field::in_both_orders; }) {
    store<std::endian::little, Field::width / 2>(bytes, member);
    store<std::endian::big, Field::width / 2>(bytes + Field::width / 2, member);
  } else {
    store<Order, Field::width>(bytes, member);
  }
}

}  // namespace detail

/// A structure out of bytes that are known to be there, size_on_disk<S> of them.
template <typename S, std::endian Order = decltype(S::layout)::order>
S read_structure(const Byte* bytes) {
  S out{};
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    detail::load_field<Order>(part, bytes + at, out.*(part.member));
  });
  return out;
}

/// The same in an order that only the bytes themselves tell.
template <typename S>
S read_structure(const Byte* bytes, std::endian order) {
  return order == std::endian::big ? read_structure<S, std::endian::big>(bytes)
                                   : read_structure<S, std::endian::little>(bytes);
}

/// The next structure; the cursor throws where it is cut short.
template <typename S, std::endian Order = decltype(S::layout)::order>
S read_structure(Cursor& cursor) {
  return read_structure<S, Order>(cursor.take(size_on_disk<S>).data());
}

/// Puts the structure over `bytes`, size_on_disk<S> of them; what no field covers is left as it is.
template <typename S, std::endian Order = decltype(S::layout)::order>
void write_structure(const S& from, Byte* bytes) {
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    detail::store_field<Order>(part, bytes + at, from.*(part.member));
  });
}

template <typename S, std::endian Order = decltype(S::layout)::order>
void append_structure(Bytes& out, const S& from) {
  std::size_t at = out.size();
  out.resize(at + size_on_disk<S>);
  write_structure<S, Order>(from, out.data() + at);
}

/// A field's name in the specification, and how many bytes into the structure it lies.
struct FieldPlace {
  std::string_view name;
  std::size_t at = 0;
};
template <typename S, typename Member>
constexpr FieldPlace place_of(Member S::*member) {
  FieldPlace place;
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    if constexpr (requires { part.member == member; }) {
      if (part.member == member) place = {part.name, at};
    }
  });
  return place;
}

/// One field of a structure alone, out of bytes that are known to be there.
template <typename S, typename T>
T read_field(T S::*member, const Byte* bytes) {
  T value{};
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    if constexpr (requires { part.member == member; }) {
      if (part.member == member) detail::load_field<decltype(S::layout)::order>(part, bytes + at, value);
    }
  });
  return value;
}

/// Puts one field alone over the bytes of its structure.
template <typename S, typename T>
void write_field(T S::*member, const std::type_identity_t<T>& value, Byte* bytes) {
  S::layout.each([&](const auto& part, std::size_t at) OPERCULUM_FOR_EACH_FIELD {
    if constexpr (requires { part.member == member; }) {
      if (part.member == member) detail::store_field<decltype(S::layout)::order>(part, bytes + at, value);
    }
  });
}

/// One field alone as it lies on disk, at place_of(member).
template <typename S, typename T>
Bytes written_field(T S::*member, const std::type_identity_t<T>& value) {
  Bytes out;
  S::layout.each([&](const auto& part, std::size_t) OPERCULUM_FOR_EACH_FIELD {
    if constexpr (requires { part.member == member; }) {
      if (part.member != member) return;
      out.resize(part.width);
      detail::store_field<decltype(S::layout)::order>(part, out.data(), value);
    }
  });
  return out;
}

/// Throws Malformed: "ext superblock at offset 1024: expected s_log_block_size (at 1048) to be at most 6,
/// found 77".
template <typename S, typename Member>
[[noreturn]] void refuse_field(std::string_view what, std::uint64_t base, Member S::*member,
                               std::string_view expected, std::string_view found) {
  FieldPlace place = place_of(member);
  throw Malformed(fmt::format("{} at offset {}: expected {} (at {}) to be {}, found {}", what, base,
                              place.name, base + place.at, expected, found));
}

}  // namespace operculum
