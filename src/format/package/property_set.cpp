#include "format/package/property_set.h"

#include "base/error.h"
#include "base/fields.h"
#include "base/text.h"
#include "base/time.h"

namespace operculum {
namespace {

constexpr unsigned kCodePage = 1;
constexpr std::size_t kMostProperties = 1000;

/// Types of values ([MS-OLEPS] 2.15).
enum ValueType : std::uint32_t { kShort = 2, kLong = 3, kAnsiText = 30, kWideText = 31, kFileTime = 64 };

std::string value_text(const LittleFields& f, std::size_t at, const std::string& encoding) {
  switch (f.u32(at)) {
    case kShort:
      return std::to_string(static_cast<std::int16_t>(f.u16(at + 4)));
    case kLong:
      return std::to_string(static_cast<std::int32_t>(f.u32(at + 4)));
    case kAnsiText: {
      std::string_view raw = f.text(at + 8, f.u32(at + 4));
      raw = until_zero(raw);
      return is_ascii(raw) ? std::string(raw) : to_utf8(raw, encoding).value_or(std::string(raw));
    }
    case kWideText: {
      std::string text = to_utf8(f.text(at + 8, f.u32(at + 4) * std::size_t{2}), "UTF-16LE").value_or("");
      return std::string(until_zero(text));
    }
    case kFileTime:
      return to_text(from_filetime(f.u64(at + 4)));
    default:
      return "";
  }
}

}  // namespace

std::map<unsigned, std::string> read_property_set(ByteView raw) {
  LittleFields f(raw, "property set");
  if (f.u16(0) != 0xFFFE) throw Malformed("property set: the byte order mark is wrong");
  if (f.u32(24) == 0) return {};
  std::size_t section = f.u32(44);
  std::size_t count = f.u32(section + 4);
  if (count > kMostProperties) throw Malformed("property set: more than 1000 properties");
  std::map<unsigned, std::size_t> places;
  for (std::size_t i = 0; i < count; ++i)
    places[f.u32(section + 8 + i * 8)] = section + f.u32(section + 12 + i * 8);
  std::string encoding = "CP1252";
  if (auto page = places.find(kCodePage); page != places.end()) {
    unsigned number = f.u16(page->second + 4);
    encoding = number == 65001 ? "UTF-8" : number == 0 ? "CP1252" : fmt::format("CP{}", number);
  }
  std::map<unsigned, std::string> values;
  for (auto [number, at] : places) {
    try {
      if (number != kCodePage) values[number] = value_text(f, at, encoding);
    } catch (const Error&) {
      continue;  // one value that cannot be read costs only itself
    }
  }
  return values;
}

}  // namespace operculum
