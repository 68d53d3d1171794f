#pragma once

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "base/bytes.h"

namespace operculum {

/// A checksum or digest that is being computed over bytes given in pieces.
class Sum {
 public:
  virtual ~Sum() = default;
  virtual void add(ByteView bytes) = 0;
  virtual Bytes finish() = 0;  ///< call once; a number comes with its highest byte first
};

/// A parameter of a sum, by position: polynomial, start, final exclusive-or, reflected (0 or 1).
struct SumKind {
  std::string_view name;
  std::string_view about;
  std::size_t bytes;           ///< of the result
  bool number = true;          ///< compared with a number; else with bytes
  std::size_t parameters = 0;  ///< how many it may take
  std::unique_ptr<Sum> (*make)(std::span<const std::int64_t> parameters);
};

std::span<const SumKind> sum_kinds();
const SumKind* find_sum(std::string_view name);

/// A stored result of a sum, written in hexadecimal; nothing when the sum is not known or the length is not
/// that of its results.
std::optional<Bytes> read_digest(std::string_view sum, std::string_view hex);

/// Whether something is written where a digest should be that cannot be read as one: then nothing was
/// compared, and a person should know.
bool is_damaged_digest(std::string_view sum, std::string_view hex);

/// Hash functions as packs use them for names.
struct NameHash {
  std::string_view name;
  std::uint64_t (*of)(std::string_view text);
};
std::span<const NameHash> name_hashes();
const NameHash* find_name_hash(std::string_view name);
std::string names_of_hashes();  ///< "crc32, adler32, ...", for messages

}  // namespace operculum
