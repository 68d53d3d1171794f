#include "format/filesystem/iso_fields.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <ctime>

#include "base/text.h"

namespace operculum::iso {
namespace {

constexpr std::uint8_t kGoesOn = 1, kCurrent = 2, kParent = 4, kRoot = 8;  // of SL's components, and of NM
constexpr std::size_t kLongestPart = 240;                                  // of a name in one field

void append(Bytes& out, ByteView bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}

std::uint32_t type_bits(EntryKind kind) {
  static constexpr std::pair<EntryKind, std::uint32_t> kBits[] = {
      {EntryKind::folder, S_IFDIR},           {EntryKind::file, S_IFREG},
      {EntryKind::symbolic_link, S_IFLNK},    {EntryKind::block_device, S_IFBLK},
      {EntryKind::character_device, S_IFCHR}, {EntryKind::fifo, S_IFIFO},
      {EntryKind::socket, S_IFSOCK}};
  auto found = std::find_if(std::begin(kBits), std::end(kBits), [&](auto& one) { return one.first == kind; });
  return found == std::end(kBits) ? S_IFREG : found->second;
}

Bytes both32(std::initializer_list<std::uint32_t> values) {
  Bytes out(8 * values.size());
  std::size_t at = 0;
  for (std::uint32_t value : values) put_both32(out.data() + 8 * at++, value);
  return out;
}

std::tm calendar(const Timestamp& time) {
  std::time_t seconds = time.seconds;
  std::tm parts{};
  gmtime_r(&seconds, &parts);
  return parts;
}

/// The components of a link's target, as many fields as it takes.
std::vector<Bytes> target_fields(const std::string& target) {
  std::vector<Bytes> components;
  std::vector<std::string_view> parts = split(target, '/');
  for (std::size_t i = 0; i < parts.size(); ++i) {
    std::string_view part = parts[i];
    if (i == 0 && part.empty()) {
      components.push_back({kRoot, 0});
    } else if (part == "." || part == "..") {
      components.push_back({part == "." ? kCurrent : kParent, 0});
    } else if (!part.empty()) {
      for (std::size_t at = 0; at < part.size(); at += kLongestPart) {
        std::string_view piece = part.substr(at, kLongestPart);
        bool last = at + kLongestPart >= part.size();
        Bytes one = {last ? Byte{0} : kGoesOn, static_cast<Byte>(piece.size())};
        append(one, as_bytes(piece));
        components.push_back(std::move(one));
      }
    }
  }
  std::vector<Bytes> out;
  Bytes contents = {0};
  auto flush = [&](bool last) {
    contents[0] = last ? 0 : kGoesOn;
    out.push_back(system_use_field("SL", contents));
    contents = {0};
  };
  for (const Bytes& one : components) {
    if (contents.size() + one.size() > kLongestPart + 4) flush(false);
    append(contents, one);
  }
  flush(true);
  return out;
}

}  // namespace

void put_both16(Byte* out, std::uint16_t value) {
  out[0] = out[3] = static_cast<Byte>(value);
  out[1] = out[2] = static_cast<Byte>(value >> 8);
}

void put_both32(Byte* out, std::uint32_t value) {
  for (std::size_t i = 0; i < 4; ++i) out[i] = out[7 - i] = static_cast<Byte>(value >> (8 * i));
}

Bytes folder_record(std::uint32_t extent, std::uint32_t size, const Timestamp& time, std::uint8_t flags,
                    ByteView name, ByteView area) {
  Bytes out(kNameAt);
  put_both32(out.data() + kExtentAt, extent);
  put_both32(out.data() + kSizeAt, size);
  Bytes date = short_date_bytes(time);
  std::copy(date.begin(), date.end(), out.begin() + kDateAt);
  out[kFlagsAt] = flags;
  put_both16(out.data() + 28, 1);  // volume sequence number
  out[kNameLengthAt] = static_cast<Byte>(name.size());
  append(out, name);
  if (name.size() % 2 == 0) out.push_back(0);
  append(out, area);
  if (out.size() % 2 != 0) out.push_back(0);
  out[0] = static_cast<Byte>(out.size());
  return out;
}

Bytes short_date_bytes(const Timestamp& time) {
  if (!time.known()) return Bytes(7);
  std::tm parts = calendar(time);
  return {static_cast<Byte>(std::clamp(parts.tm_year, 0, 255)),
          static_cast<Byte>(parts.tm_mon + 1),
          static_cast<Byte>(parts.tm_mday),
          static_cast<Byte>(parts.tm_hour),
          static_cast<Byte>(parts.tm_min),
          static_cast<Byte>(std::min(parts.tm_sec, 59)),
          0};
}

Bytes long_date_bytes(const Timestamp& time) {
  std::string text(16, '0');
  if (time.known()) {
    std::tm parts = calendar(time);
    text = fmt::format("{:04}{:02}{:02}{:02}{:02}{:02}00", parts.tm_year + 1900, parts.tm_mon + 1,
                       parts.tm_mday, parts.tm_hour, parts.tm_min, parts.tm_sec);
  }
  Bytes out(text.begin(), text.end());
  out.push_back(0);
  return out;
}

Bytes system_use_field(std::string_view letters, ByteView contents) {
  Bytes out(letters.begin(), letters.end());
  out.push_back(static_cast<Byte>(4 + contents.size()));
  out.push_back(1);  // version
  append(out, contents);
  return out;
}

std::vector<Bytes> name_fields(const std::string& name) {
  std::vector<Bytes> out;
  for (std::size_t at = 0; at < name.size(); at += kLongestPart) {
    Bytes contents = {at + kLongestPart < name.size() ? kGoesOn : Byte{0}};
    append(contents, as_bytes(std::string_view(name).substr(at, kLongestPart)));
    out.push_back(system_use_field("NM", contents));
  }
  return out;
}

std::vector<Bytes> ridge_fields(const std::string& name, const TreeNode& node) {
  std::uint32_t links = node.kind == EntryKind::folder ? 2 : node.names;
  std::vector<Bytes> out = {system_use_field("PX", both32({type_bits(node.kind) | (node.mode & 07777), links,
                                                           node.extra.user_id, node.extra.group_id}))};
  if (node.kind == EntryKind::block_device || node.kind == EntryKind::character_device)
    out.push_back(system_use_field("PN", both32({node.extra.device_major, node.extra.device_minor})));
  if (node.modified.known()) {
    constexpr Byte kModified = 2;
    Bytes contents = {kModified};
    append(contents, short_date_bytes(node.modified));
    out.push_back(system_use_field("TF", contents));
  }
  for (Bytes& one : name_fields(name)) out.push_back(std::move(one));
  if (node.kind == EntryKind::symbolic_link) {
    for (Bytes& one : target_fields(node.link_target)) out.push_back(std::move(one));
  }
  return out;
}

}  // namespace operculum::iso
