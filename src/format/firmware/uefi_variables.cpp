#include "format/firmware/uefi_variables.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/structure_fields.h"
#include "base/text.h"
#include "format/firmware/uefi_records.h"

namespace operculum::uefi {
namespace {

constexpr std::string_view kAuthenticated = "aaf32c78-947b-439a-a180-2e144ec37792",
                           kPlain = "ddcf3616-3275-4164-98b6-fe85707ffe7d";
constexpr std::size_t kAuthenticatedHeader = 60, kPlainHeader = 32;
constexpr std::uint16_t kStart = 0x55AA;
constexpr std::uint8_t kAdded = 0x3F, kBeingDeleted = 0x3E;
constexpr std::uint32_t kLongestName = 4096;
constexpr std::uint64_t kLargestStore = 64 << 20;
constexpr std::size_t kMostShown = 64;

/// What both kinds of headers of a variable say.
struct VariableHead {
  std::uint16_t start = 0;
  std::uint8_t state = 0;
  std::uint32_t attributes = 0;
  std::uint64_t name_size = 0, data_size = 0;
  Guid vendor{};
};
template <typename Header>
VariableHead head_at(const LittleFields& store, std::size_t at) {
  auto head = structure_at<Header>(store, at);
  return {head.StartId, head.State, head.Attributes, head.NameSize, head.DataSize, head.VendorGuid};
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
  auto head = structure_at<LoadOption>(f, 0);
  constexpr std::size_t text_at = size_on_disk<LoadOption>;
  std::string out = wide_text(f.bytes(text_at, data.size() - text_at));
  if ((head.Attributes & LoadOption::active) == 0) out += " (not active)";
  return out;
}

}  // namespace

std::optional<std::vector<Variable>> read_variables(const Source& bytes, std::uint64_t at,
                                                    std::string& trouble) {
  Bytes head = read_up_to(bytes, at, StoreHeader::size);
  if (head.size() < StoreHeader::size) return std::nullopt;
  auto stated = read_structure<StoreHeader>(head.data());
  std::string kind = text_of(stated.Signature);
  if ((kind != kAuthenticated && kind != kPlain) || stated.Format != StoreHeader::formatted)
    return std::nullopt;
  bool authenticated = kind == kAuthenticated;
  std::uint64_t size = std::min({std::uint64_t{stated.Size}, bytes.size() - at, kLargestStore});
  Bytes store = read_up_to(bytes, at, size);
  std::size_t header = authenticated ? kAuthenticatedHeader : kPlainHeader;
  std::vector<Variable> out;
  LittleFields f(store, "variable", at);
  for (std::size_t place = StoreHeader::size; place + header <= store.size();) {
    VariableHead one_head =
        authenticated ? head_at<AuthenticatedVariable>(f, place) : head_at<PlainVariable>(f, place);
    if (one_head.start != kStart) break;
    std::uint64_t name_size = one_head.name_size, data_size = one_head.data_size;
    bool erased = name_size == UINT32_MAX && data_size == UINT32_MAX;
    if (erased || name_size > kLongestName || place + header + name_size + data_size > store.size()) {
      if (!erased)
        trouble = fmt::format("the variable at offset {} goes beyond its store; the rest is not listed",
                              at + place);
      break;
    }
    Variable one;
    one.name = wide_text(f.bytes(place + header, name_size));
    one.vendor = one_head.vendor;
    one.attributes = one_head.attributes;
    one.at = at + place + header + name_size;
    one.size = data_size;
    one.deleted = one_head.state != kAdded && one_head.state != kBeingDeleted;
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
  if (is_load_option(variable.name) && data.size() > size_on_disk<LoadOption>) return option_text(data);
  if (is_wide_text(data)) return "\"" + wide_text(data) + "\"";
  if (is_plain_text(data)) return "\"" + std::string(until_zero(as_text(data))) + "\"";
  if (data.size() == 1) return std::to_string(data[0]);
  if (data.size() == 2) return std::to_string(load_little<std::uint16_t>(data.data()));
  std::string out = to_hex(data.first(std::min(data.size(), kMostShown)));
  return data.size() > kMostShown ? fmt::format("{}... ({} bytes)", out, data.size()) : out;
}

}  // namespace operculum::uefi
