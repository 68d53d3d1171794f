#include "format/volume/luks2_metadata.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/error.h"
#include "base/text.h"

namespace operculum::luks {
namespace {

using Json = nlohmann::json;

[[noreturn]] void lacks(std::string_view what) {
  throw Malformed(fmt::format("LUKS2 metadata: expected {}, found none", what));
}

const Json& object_in(const Json& in, const char* name) {
  auto found = in.find(name);
  if (found == in.end() || !found->is_object()) lacks(fmt::format("an object \"{}\"", name));
  return *found;
}

std::string text_in(const Json& in, const char* name) {
  auto found = in.find(name);
  if (found == in.end() || !found->is_string()) lacks(fmt::format("a text \"{}\"", name));
  return found->get<std::string>();
}

/// Numbers of 64 bits are written as texts.
std::uint64_t number_in(const Json& in, const char* name) {
  auto found = in.find(name);
  if (found != in.end() && found->is_number_unsigned()) return found->get<std::uint64_t>();
  if (found != in.end() && found->is_string())
    if (auto number = parse_number(found->get<std::string>())) return *number;
  lacks(fmt::format("a number \"{}\"", name));
}

Bytes base64_in(const Json& in, const char* name) {
  std::string text = text_in(in, name);
  text.resize(std::min(text.find('='), text.size()));
  bool digits = std::all_of(text.begin(), text.end(), [](char c) {
    return (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '+' || c == '/';
  });
  if (!digits) lacks(fmt::format("base64 in \"{}\"", name));
  return from_base64(text);
}

unsigned key_of(const std::string& name) {
  auto number = parse_number(name);
  if (!number || *number > 1000)
    throw Malformed(fmt::format("LUKS2 metadata: expected a number as a name, found \"{}\"", escape(name)));
  return static_cast<unsigned>(*number);
}

Derivation derivation_of(const Json& kdf) {
  Derivation out;
  out.kind = text_in(kdf, "type");
  out.salt = base64_in(kdf, "salt");
  if (out.kind == "pbkdf2") {
    out.hash = text_in(kdf, "hash");
    out.rounds = number_in(kdf, "iterations");
  } else if (out.kind == "argon2i" || out.kind == "argon2id") {
    constexpr std::uint64_t kMost = UINT32_MAX;
    out.argon = {out.kind == "argon2i", static_cast<std::uint32_t>(std::min(kMost, number_in(kdf, "time"))),
                 number_in(kdf, "memory"),
                 static_cast<std::uint32_t>(std::min(kMost, number_in(kdf, "cpus")))};
  } else {
    throw Unsupported(fmt::format("key derivation \"{}\"", escape(out.kind)));
  }
  return out;
}

Slot slot_of(unsigned number, const Json& one) {
  const Json& area = object_in(one, "area");
  const Json& split = object_in(one, "af");
  Slot out;
  out.number = number;
  out.derivation = derivation_of(object_in(one, "kdf"));
  out.encryption = text_in(area, "encryption");
  out.area_key_size = static_cast<std::size_t>(number_in(area, "key_size"));
  out.area_at = number_in(area, "offset");
  out.area_size = number_in(area, "size");
  out.split_hash = text_in(split, "hash");
  out.stripes = static_cast<std::size_t>(number_in(split, "stripes"));
  out.key_size = static_cast<std::size_t>(number_in(one, "key_size"));
  return out;
}

void read_segment(const Json& segments, Header& out) {
  if (segments.size() != 1)
    throw Unsupported(
        fmt::format("LUKS2 with {} segments (an encryption that was not finished?)", segments.size()));
  const Json& one = segments.begin().value();
  if (text_in(one, "type") != "crypt")
    throw Unsupported(fmt::format("LUKS2 segments of type \"{}\"", escape(text_in(one, "type"))));
  out.encryption = text_in(one, "encryption");
  out.data_at = number_in(one, "offset");
  if (text_in(one, "size") != "dynamic") out.data_size = number_in(one, "size");
  out.sector_size = static_cast<std::size_t>(number_in(one, "sector_size"));
  out.first_sector = number_in(one, "iv_tweak");
  if (auto integrity = one.find("integrity"); integrity != one.end() && integrity->is_object())
    out.integrity = text_in(*integrity, "type");
}

void read_all(const Json& all, Header& out) {
  read_segment(object_in(all, "segments"), out);
  for (const auto& [name, one] : object_in(all, "keyslots").items()) {
    unsigned number = key_of(name);
    if (std::string kind = text_in(one, "type"); kind != "luks2") {
      out.unsupported_slots.push_back(fmt::format("slot {}: kind {}", number, escape(kind)));
    } else {
      out.slots.push_back(slot_of(number, one));
    }
  }
  for (const auto& [name, one] : object_in(all, "digests").items()) {
    if (text_in(one, "type") != "pbkdf2") continue;
    Digest digest{text_in(one, "hash"),
                  number_in(one, "iterations"),
                  base64_in(one, "salt"),
                  base64_in(one, "digest"),
                  {}};
    auto slots = one.find("keyslots");
    if (slots != one.end() && slots->is_array())
      for (const Json& slot : *slots)
        if (slot.is_string()) digest.slots.push_back(key_of(slot.get<std::string>()));
    out.digests.push_back(std::move(digest));
  }
}

}  // namespace

void read_metadata(std::string_view json, Header& out) {
  json = until_zero(json);
  // deep nesting is refused by the parser itself, which keeps its own stack
  Json all = Json::parse(json, nullptr, false);
  if (all.is_discarded() || !all.is_object()) throw Malformed("LUKS2 metadata: it is no JSON object");
  try {
    read_all(all, out);
  } catch (const Json::exception& error) {
    throw Malformed(fmt::format("LUKS2 metadata: {}", error.what()));
  }
}

}  // namespace operculum::luks
