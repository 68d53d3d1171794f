#include "format/firmware/uefi_variables.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/fields.h"
#include "base/text.h"

namespace operculum::uefi {
namespace {

constexpr std::string_view kAuthenticated = "aaf32c78-947b-439a-a180-2e144ec37792",
                           kPlain = "ddcf3616-3275-4164-98b6-fe85707ffe7d";
constexpr std::size_t kStoreHeader = 28, kAuthenticatedHeader = 60, kPlainHeader = 32;
constexpr std::uint16_t kStart = 0x55AA;
constexpr std::uint8_t kAdded = 0x3F, kBeingDeleted = 0x3E;
constexpr std::uint32_t kLongestName = 4096;
constexpr std::uint64_t kLargestStore = 64 << 20;
constexpr std::size_t kMostShown = 64;

Guid guid_at(const LittleFields& f, std::size_t at) {
  Guid guid{};
  ByteView raw = f.bytes(at, 16);
  std::copy(raw.begin(), raw.end(), guid.begin());
  return guid;
}

bool is_wide_text(ByteView data) {
  if (data.size() < 4 || data.size() % 2 != 0) return false;
  for (std::size_t i = 0; i + 2 <= data.size(); i += 2) {
    bool last = i + 2 == data.size();
    bool letter = data[i + 1] == 0 && data[i] >= 0x20 && data[i] < 0x7F;
    if (last ? data[i] != 0 || data[i + 1] != 0 : !letter) return false;
  }
  return true;
}

bool is_plain_text(ByteView data) {
  std::size_t size = data.size();
  if (size > 0 && data[size - 1] == 0) --size;
  return size >= 2 && std::all_of(data.begin(), data.begin() + static_cast<std::ptrdiff_t>(size),
                                  [](Byte b) { return b >= 0x20 && b < 0x7F; });
}

/// "BootOrder" and its like are lists of 16-bit numbers; "Boot0001" are load options (section 3.1.3).
bool is_order(std::string_view name) {
  return name == "BootOrder" || name == "DriverOrder" || name == "SysPrepOrder";
}
bool is_load_option(std::string_view name) {
  std::string_view digits =
      name.substr(std::min<std::size_t>(name.size(), name.size() >= 4 ? name.size() - 4 : 0));
  bool named = name.starts_with("Boot") || name.starts_with("Driver") || name.starts_with("SysPrep");
  return named && digits.size() == 4 && parse_number(digits, 16) && name.size() <= 11;
}

std::string option_text(ByteView data) {
  LittleFields f(data, "load option");
  std::string out = wide_text(f.bytes(6, data.size() - 6));
  if ((f.u32(0) & 1) == 0) out += " (not active)";
  return out;
}

}  // namespace

std::optional<std::vector<Variable>> read_variables(const Source& bytes, std::uint64_t at,
                                                    std::string& trouble) {
  Bytes head = read_up_to(bytes, at, kStoreHeader);
  if (head.size() < kStoreHeader) return std::nullopt;
  LittleFields h(head, "variable store", at);
  std::string kind = text_of(guid_at(h, 0));
  if ((kind != kAuthenticated && kind != kPlain) || h.u8(20) != 0x5A) return std::nullopt;
  bool authenticated = kind == kAuthenticated;
  std::uint64_t size = std::min({std::uint64_t{h.u32(16)}, bytes.size() - at, kLargestStore});
  Bytes store = read_up_to(bytes, at, size);
  std::size_t header = authenticated ? kAuthenticatedHeader : kPlainHeader;
  std::vector<Variable> out;
  LittleFields f(store, "variable", at);
  for (std::size_t place = kStoreHeader; place + header <= store.size();) {
    if (f.u16(place) != kStart) break;
    std::uint8_t state = f.u8(place + 2);
    std::size_t sizes = place + (authenticated ? 36 : 8);
    std::uint64_t name_size = f.u32(sizes), data_size = f.u32(sizes + 4);
    bool erased = name_size == UINT32_MAX && data_size == UINT32_MAX;
    if (erased || name_size > kLongestName || place + header + name_size + data_size > store.size()) {
      if (!erased)
        trouble = fmt::format("the variable at offset {} goes beyond its store; the rest is not listed",
                              at + place);
      break;
    }
    Variable one;
    one.name = wide_text(f.bytes(place + header, name_size));
    one.vendor = guid_at(f, sizes + 8);
    one.attributes = f.u32(place + 4);
    one.at = at + place + header + name_size;
    one.size = data_size;
    one.deleted = state != kAdded && state != kBeingDeleted;
    out.push_back(std::move(one));
    place += header + name_size + data_size;
    place = (place + 3) / 4 * 4;
  }
  return out;
}

std::string attributes_text(std::uint32_t attributes) {
  constexpr std::pair<std::uint32_t, std::string_view> kBits[] = {
      {1, "non-volatile"},     {2, "boot"},
      {4, "runtime"},          {8, "hardware error"},
      {0x10, "authenticated"}, {0x20, "authenticated by time"},
      {0x40, "append"}};
  std::string out;
  for (auto [bit, name] : kBits) {
    if ((attributes & bit) != 0) out += (out.empty() ? "" : ", ") + std::string(name);
  }
  return out;
}

std::string value_text(const Variable& variable, ByteView data) {
  if (is_order(variable.name) && data.size() % 2 == 0) {
    std::string out;
    for (std::size_t i = 0; i < data.size(); i += 2)
      out += fmt::format("{}{:04x}", out.empty() ? "" : " ", load_little<std::uint16_t>(data.data() + i));
    return out;
  }
  if (is_load_option(variable.name) && data.size() > 6) return option_text(data);
  if (is_wide_text(data)) return "\"" + wide_text(data) + "\"";
  if (is_plain_text(data)) return "\"" + std::string(until_zero(as_text(data))) + "\"";
  if (data.size() == 1) return std::to_string(data[0]);
  if (data.size() == 2) return std::to_string(load_little<std::uint16_t>(data.data()));
  std::string out = to_hex(data.first(std::min(data.size(), kMostShown)));
  return data.size() > kMostShown ? fmt::format("{}... ({} bytes)", out, data.size()) : out;
}

}  // namespace operculum::uefi
