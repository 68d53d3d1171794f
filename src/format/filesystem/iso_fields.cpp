#include "format/filesystem/iso_fields.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <ctime>

#include "base/text.h"

namespace operculum::iso {
namespace {

constexpr std::size_t kLongestPart = 240;  // of a name in one field

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
      components.push_back({part_root, 0});
    } else if (part == "." || part == "..") {
      components.push_back({part == "." ? part_current : part_parent, 0});
    } else if (!part.empty()) {
      for (std::size_t at = 0; at < part.size(); at += kLongestPart) {
        std::string_view piece = part.substr(at, kLongestPart);
        bool last = at + kLongestPart >= part.size();
        Bytes one = {last ? Byte{0} : Byte{part_goes_on}, static_cast<Byte>(piece.size())};
        append(one, as_bytes(piece));
        components.push_back(std::move(one));
      }
    }
  }
  std::vector<Bytes> out;
  Bytes contents = {0};
  auto flush = [&](bool last) {
    contents[0] = last ? 0 : part_goes_on;
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

Bytes folder_record(std::uint32_t extent, std::uint32_t size, const Timestamp& time, std::uint8_t flags,
                    ByteView name, ByteView area) {
  FolderRecord head{.extent = extent,
                    .data_length = size,
                    .date = short_date_bytes(time),
                    .flags = flags,
                    .name_length = static_cast<std::uint8_t>(name.size())};
  Bytes out(size_on_disk<FolderRecord>);
  append(out, name);
  if (name.size() % 2 == 0) out.push_back(0);
  append(out, area);
  if (out.size() % 2 != 0) out.push_back(0);
  head.length = static_cast<std::uint8_t>(out.size());
  write_structure(head, out.data());
  return out;
}

void set_place(Byte* record, std::uint64_t extent, std::uint64_t size) {
  write_field(&FolderRecord::extent, static_cast<std::uint32_t>(extent), record);
  write_field(&FolderRecord::data_length, static_cast<std::uint32_t>(size), record);
}

std::array<Byte, 7> short_date_bytes(const Timestamp& time) {
  if (!time.known()) return {};
  std::tm parts = calendar(time);
  return {static_cast<Byte>(std::clamp(parts.tm_year, 0, 255)),
          static_cast<Byte>(parts.tm_mon + 1),
          static_cast<Byte>(parts.tm_mday),
          static_cast<Byte>(parts.tm_hour),
          static_cast<Byte>(parts.tm_min),
          static_cast<Byte>(std::min(parts.tm_sec, 59)),
          0};
}

std::array<Byte, 17> long_date_bytes(const Timestamp& time) {
  std::string text(16, '0');
  if (time.known()) {
    std::tm parts = calendar(time);
    text = fmt::format("{:04}{:02}{:02}{:02}{:02}{:02}00", parts.tm_year + 1900, parts.tm_mon + 1,
                       parts.tm_mday, parts.tm_hour, parts.tm_min, parts.tm_sec);
  }
  std::array<Byte, 17> out{};
  std::copy_n(text.begin(), text.size(), out.begin());
  return out;
}

Bytes system_use_field(std::string_view letters, ByteView contents) {
  SystemUse head{.length = static_cast<std::uint8_t>(use_head_size + contents.size())};
  std::copy_n(letters.begin(), head.signature.size(), head.signature.begin());
  Bytes out;
  append_structure(out, head);
  append(out, contents);
  return out;
}

std::vector<Bytes> name_fields(const std::string& name) {
  std::vector<Bytes> out;
  for (std::size_t at = 0; at < name.size(); at += kLongestPart) {
    Bytes contents = {at + kLongestPart < name.size() ? Byte{part_goes_on} : Byte{0}};
    append(contents, as_bytes(std::string_view(name).substr(at, kLongestPart)));
    out.push_back(system_use_field("NM", contents));
  }
  return out;
}

std::vector<Bytes> ridge_fields(const std::string& name, const TreeNode& node) {
  std::uint32_t links = node.kind == EntryKind::folder ? 2 : node.names;
  PosixAttributes px{type_bits(node.kind) | (node.mode & 07777), links, node.extra.user_id,
                     node.extra.group_id};
  std::vector<Bytes> out = {system_use_field("PX", px)};
  if (node.kind == EntryKind::block_device || node.kind == EntryKind::character_device)
    out.push_back(system_use_field("PN", DeviceNumber{node.extra.device_major, node.extra.device_minor}));
  if (node.modified.known()) {
    Bytes contents = {time_modify};
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
