#include "format/package/property_set.h"

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "base/time.h"

namespace operculum {
namespace {

constexpr unsigned kCodePage = 1;
constexpr std::size_t kMostProperties = 1000;

// On disk ([MS-OLEPS] 2.21): a stream's header, for each set its kind (FMTID) and place, then the sets: their
// size, the number of properties, for each its number and place within the set, and the values.

/// PropertySetStream, up to the first set's place.
struct StreamHeader {
  std::uint16_t ByteOrder = 0, Version = 0;
  std::uint32_t SystemIdentifier = 0;
  std::array<Byte, 16> CLSID{};
  std::uint32_t NumPropertySets = 0;
  static constexpr std::uint16_t little = 0xFFFE;
  static constexpr auto layout = little_endian(
      field("ByteOrder", &StreamHeader::ByteOrder), field("Version", &StreamHeader::Version),
      field("SystemIdentifier", &StreamHeader::SystemIdentifier), field("CLSID", &StreamHeader::CLSID),
      field("NumPropertySets", &StreamHeader::NumPropertySets));
};
struct SetPlace {
  std::array<Byte, 16> FMTID{};
  std::uint32_t Offset = 0;
  static constexpr auto layout =
      little_endian(field("FMTID0", &SetPlace::FMTID), field("Offset0", &SetPlace::Offset));
};

/// PropertySet (2.20), and a row of what follows it (2.19).
struct SetHeader {
  std::uint32_t Size = 0, NumProperties = 0;
  static constexpr auto layout =
      little_endian(field("Size", &SetHeader::Size), field("NumProperties", &SetHeader::NumProperties));
};
struct PropertyPlace {
  std::uint32_t PropertyIdentifier = 0, Offset = 0;
  static constexpr auto layout =
      little_endian(field("PropertyIdentifier", &PropertyPlace::PropertyIdentifier),
                    field("Offset", &PropertyPlace::Offset));
};

/// What a value begins with (2.15); a text has its length behind it, in characters.
struct ValueHead {
  std::uint16_t Type = 0, Padding = 0;
  static constexpr auto layout =
      little_endian(field("Type", &ValueHead::Type), field("Padding", &ValueHead::Padding));
};
constexpr std::size_t kValueAt = size_on_disk<ValueHead>, kTextAt = kValueAt + sizeof(std::uint32_t);

/// Types of values ([MS-OLEPS] 2.15).
enum ValueType : std::uint16_t {
  short_value = 2,
  long_value = 3,
  ansi_text_value = 30,
  wide_text_value = 31,
  file_time_value = 64
};

std::string value_text(const LittleFields& f, std::size_t at, const std::string& encoding) {
  switch (structure_at<ValueHead>(f, at).Type) {
    case short_value:
      return std::to_string(static_cast<std::int16_t>(f.u16(at + kValueAt)));
    case long_value:
      return std::to_string(static_cast<std::int32_t>(f.u32(at + kValueAt)));
    case ansi_text_value: {
      std::string_view raw = f.text(at + kTextAt, f.u32(at + kValueAt));
      raw = until_zero(raw);
      return is_ascii(raw) ? std::string(raw) : to_utf8(raw, encoding).value_or(std::string(raw));
    }
    case wide_text_value: {
      std::string text =
          to_utf8(f.text(at + kTextAt, f.u32(at + kValueAt) * std::size_t{2}), "UTF-16LE").value_or("");
      return std::string(until_zero(text));
    }
    case file_time_value:
      return to_text(from_filetime(f.u64(at + kValueAt)));
    default:
      return "";
  }
}

}  // namespace

std::map<unsigned, std::string> read_property_set(ByteView raw) {
  LittleFields f(raw, "property set");
  auto head = structure_at<StreamHeader>(f, 0);
  if (head.ByteOrder != StreamHeader::little)
    throw Malformed(
        fmt::format("property set: expected the byte order mark 0xfffe, found {:#06x}", head.ByteOrder));
  if (head.NumPropertySets == 0) return {};
  std::size_t section = structure_at<SetPlace>(f, size_on_disk<StreamHeader>).Offset;
  std::size_t count = structure_at<SetHeader>(f, section).NumProperties;
  if (count > kMostProperties) throw Malformed("property set: more than 1000 properties");
  std::map<unsigned, std::size_t> places;
  for (std::size_t i = 0; i < count; ++i) {
    auto row =
        structure_at<PropertyPlace>(f, section + size_on_disk<SetHeader> + i * size_on_disk<PropertyPlace>);
    places[row.PropertyIdentifier] = section + row.Offset;
  }
  std::string encoding = "CP1252";
  if (auto page = places.find(kCodePage); page != places.end()) {
    unsigned number = f.u16(page->second + kValueAt);
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
