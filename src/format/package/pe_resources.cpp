#include "format/package/pe_resources.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/error.h"
#include "base/structure_fields.h"
#include "base/text.h"
#include "format/package/pe_records.h"
#include "format/package/pe_resource_records.h"

namespace operculum::pe {
namespace {

constexpr std::size_t kMostLeaves = 100000, kMostRows = 65536;
constexpr std::uint32_t kHighBit = 0x80000000;
constexpr std::uint64_t kMostMade = 64 << 20;  // bytes of a resource that is put together

enum Type : std::uint32_t {
  cursor_resource = 1,
  bitmap_resource = 2,
  icon_resource = 3,
  strings_resource = 6,
  group_cursor_resource = 12,
  group_icon_resource = 14,
  manifest_resource = 24
};

struct TypeName {
  std::uint32_t type;
  std::string_view folder, ending;
};
constexpr TypeName kTypes[] = {
    {cursor_resource, "cursor-images", ""},
    {bitmap_resource, "bitmaps", ".bmp"},
    {icon_resource, "icon-images", ""},
    {4, "menus", ""},
    {5, "dialogs", ""},
    {strings_resource, "strings", ".txt"},
    {7, "font-folders", ""},
    {8, "fonts", ".fnt"},
    {9, "accelerators", ""},
    {10, "data", ""},
    {11, "messages", ""},
    {group_cursor_resource, "cursors", ".cur"},
    {group_icon_resource, "icons", ".ico"},
    {kVersionType, "version", ".txt"},
    {17, "dialog-includes", ""},
    {19, "plug-and-play", ""},
    {20, "device-drivers", ""},
    {21, "animated-cursors", ".ani"},
    {22, "animated-icons", ".ani"},
    {23, "html", ".html"},
    {manifest_resource, "manifest", ".xml"},
};

const TypeName* find_type(std::uint32_t type) {
  auto known =
      std::find_if(std::begin(kTypes), std::end(kTypes), [&](const TypeName& t) { return t.type == type; });
  return known == std::end(kTypes) ? nullptr : &*known;
}

std::string wide_text(ByteView raw) {
  return to_utf8(as_text(raw), "UTF-16LE").value_or("unreadable");
}

/// Names of three levels: type, name, language.
class TreeReader {
 public:
  TreeReader(const Source& bytes, const Image& image, const std::function<void(const std::string&)>& trouble)
      : bytes_(bytes), image_(image), trouble_(trouble) {}

  std::vector<Resource> read() {
    if (image_.directories.size() <= resources_directory || image_.directories[resources_directory].size == 0)
      return {};
    auto place = image_.locate(image_.directories[resources_directory].address);
    if (!place) {
      trouble_("the resources lie outside the sections");
      return {};
    }
    base_ = place->first;
    room_ = place->second;
    table(0, 0, {});
    return std::move(found_);
  }

 private:
  void table(std::uint32_t at, int level, const Resource& so_far) {
    if (!seen_.insert(at).second) return trouble_("the resource tree has a loop");
    constexpr std::size_t head_size = size_on_disk<ResourceTable>, step = size_on_disk<ResourceRow>;
    Bytes header = read(at, head_size);
    if (header.size() < head_size) return;
    auto head = read_structure<ResourceTable>(header.data());
    std::size_t rows =
        std::min<std::size_t>(std::size_t{head.NumberOfNameEntries} + head.NumberOfIdEntries, kMostRows);
    Bytes raw = read(at + head_size, rows * step);
    for (std::size_t i = 0; i < raw.size() / step && found_.size() < kMostLeaves; ++i) {
      auto [id, to] = read_structure<ResourceRow>(raw.data() + i * step);
      Resource one = so_far;
      if (level == 0) {
        name(id, one.type, one.type_name);
      } else if (level == 1) {
        name(id, one.number, one.name);
      } else {
        one.language = id;
      }
      if ((to & kHighBit) == 0) {
        leaf(to, std::move(one));
      } else if (level < 2) {
        table(to & ~kHighBit, level + 1, one);
      } else {
        trouble_("the resource tree is more than three levels deep");
      }
    }
  }

  void name(std::uint32_t id, std::uint32_t& number, std::string& text) {
    if ((id & kHighBit) == 0) {
      number = id;
      return;
    }
    std::uint32_t at = id & ~kHighBit;
    Bytes length = read(at, 2);
    if (length.size() < 2) return;
    text = wide_text(read(at + 2, load_little<std::uint16_t>(length.data()) * std::size_t{2}));
  }

  void leaf(std::uint32_t at, Resource one) {
    Bytes raw = read(at, size_on_disk<ResourceLeaf>);
    if (raw.size() < size_on_disk<ResourceLeaf>) return;
    auto stated = read_structure<ResourceLeaf>(raw.data());
    auto place = image_.locate(stated.DataRVA);
    if (!place) return trouble_("a resource lies outside the sections; it is left out");
    one.at = place->first;
    one.size = std::min<std::uint64_t>(stated.Size, place->second);
    if (one.size < stated.Size)
      trouble_(fmt::format("a resource states {} bytes where {} are left", stated.Size, place->second));
    found_.push_back(std::move(one));
  }

  Bytes read(std::uint64_t at, std::size_t size) {
    if (at >= room_) {
      trouble_("the resource tree goes on behind the end of its section");
      return {};
    }
    return read_up_to(bytes_, base_ + at, std::min<std::uint64_t>(size, room_ - at));
  }

  const Source& bytes_;
  const Image& image_;
  const std::function<void(const std::string&)>& trouble_;
  std::uint64_t base_ = 0, room_ = 0;
  std::set<std::uint32_t> seen_;
  std::vector<Resource> found_;
};

using Images = std::map<std::uint32_t, Resource>;

Bytes bytes_of(const Source& bytes, const Resource& resource) {
  if (resource.size > kMostMade) throw LimitExceeded("a resource of more than 64 MiB to be converted");
  return read_up_to(bytes, resource.at, resource.size);
}

/// Bytes between a bitmap's header and its pixels.
std::uint32_t colours_size(const LittleFields& raw, std::uint32_t header_size) {
  if (header_size == size_on_disk<BitmapCoreHeader>) {
    unsigned bits = structure_at<BitmapCoreHeader>(raw, 0).bcBitCount;
    return bits <= 8 ? (1U << bits) * 3 : 0;
  }
  auto head = structure_at<BitmapInfoHeader>(raw, 0);
  std::uint32_t size = head.biClrUsed != 0    ? head.biClrUsed * 4
                       : head.biBitCount <= 8 ? (1U << head.biBitCount) * 4
                                              : 0;
  return header_size == size_on_disk<BitmapInfoHeader> && head.biCompression == kBitFields ? size + 12 : size;
}

/// A bitmap is stored without the header that a file of it begins with.
Bytes make_bitmap(ByteView raw) {
  LittleFields f(raw, "bitmap resource");
  std::uint32_t header_size = f.u32(0);
  constexpr std::uint32_t front = size_on_disk<BitmapFileHeader>;
  BitmapFileHeader head;
  head.bfSize = static_cast<std::uint32_t>(raw.size() + front);
  head.bfOffBits = front + header_size + colours_size(f, header_size);
  Bytes out;
  append_structure(out, head);
  out.insert(out.end(), raw.begin(), raw.end());
  return out;
}

/// An image of a group as a file of icons or cursors has it: its row, and its bytes.
std::pair<IconFileRow, Bytes> group_member(const LittleFields& row, Bytes image, bool cursor) {
  auto icon = structure_at<GroupIcon>(row, 0);
  IconFileRow out{icon.Width, icon.Height, icon.ColorCount, icon.reserved, icon.Planes, icon.BitCount};
  constexpr std::size_t spot_size = size_on_disk<HotSpot>;
  if (cursor && image.size() >= spot_size) {
    auto shown = structure_at<GroupCursor>(row, 0);
    auto spot = read_structure<HotSpot>(image.data());
    out = {static_cast<std::uint8_t>(shown.Width),
           static_cast<std::uint8_t>(shown.Height / 2),
           0,
           0,
           spot.xHotSpot,
           spot.yHotSpot};
    image.erase(image.begin(), image.begin() + spot_size);
  }
  out.dwBytesInRes = static_cast<std::uint32_t>(image.size());
  return {out, std::move(image)};
}

/// A group names images that are resources of their own; a file has them behind each other.
Bytes make_group(const Source& bytes, const Resource& group, const Images& images, bool cursor) {
  Bytes raw = bytes_of(bytes, group);
  LittleFields g(raw, "icon group");
  std::vector<std::pair<std::size_t, const Resource*>> members;
  for (std::size_t i = 0, count = structure_at<GroupHead>(g, 0).ResCount; i < count; ++i) {
    std::size_t at = size_on_disk<GroupHead> + i * size_on_disk<GroupIcon>;
    auto image = images.find(structure_at<GroupIcon>(g, at).IconCursorId);
    if (image != images.end()) members.emplace_back(at, &image->second);
  }
  Bytes out, data;
  append_structure(out, GroupHead{0, static_cast<std::uint16_t>(cursor ? 2 : 1),
                                  static_cast<std::uint16_t>(members.size())});
  std::size_t data_at = out.size() + members.size() * size_on_disk<IconFileRow>;
  for (auto [at, resource] : members) {
    auto [row, image] = group_member(g.from(at), bytes_of(bytes, *resource), cursor);
    row.dwImageOffset = static_cast<std::uint32_t>(data_at + data.size());
    append_structure(out, row);
    data.insert(data.end(), image.begin(), image.end());
    if (data.size() > kMostMade) throw LimitExceeded("an icon of more than 64 MiB");
  }
  out.insert(out.end(), data.begin(), data.end());
  return out;
}

/// Sixteen strings a resource, each with its length; the resource's number says which.
Bytes make_strings(const Source& bytes, const std::vector<Resource>& blocks) {
  std::string text;
  const std::uint64_t most = 4 * bytes.size() + (1 << 20);  // UTF-8 of UTF-16, escapes and numbers
  for (const Resource& block : blocks) {
    if (text.size() > most) throw Malformed("the string tables lead to the same bytes over and over");
    Bytes raw = bytes_of(bytes, block);
    LittleFields f(raw, "string table");
    std::size_t at = 0;
    for (std::uint32_t i = 0; i < 16 && at + 2 <= raw.size(); ++i) {
      std::size_t length = f.u16(at);
      at += 2;
      if (length != 0) {
        std::string value = wide_text(f.bytes(at, std::min(length * 2, raw.size() - at)));
        text += fmt::format("{}\t{}\n", (block.number - 1) * 16 + i, escape(value));
      }
      at += length * 2;
    }
  }
  return Bytes(text.begin(), text.end());
}

/// One node of version information and what lies in it.
struct VersionNode {
  std::string key;
  ByteView value, children;
  std::size_t length = 0;  // rounded up to where the next begins
};

std::optional<VersionNode> version_node(ByteView raw) {
  constexpr std::size_t head_size = size_on_disk<VersionHead>;
  if (raw.size() < head_size) return std::nullopt;
  LittleFields f(raw, "version information");
  auto head = structure_at<VersionHead>(f, 0);
  std::size_t length = head.wLength;
  if (length < head_size || length > raw.size()) return std::nullopt;
  VersionNode node;
  std::size_t at = head_size;
  while (at + 2 <= length && f.u16(at) != 0) at += 2;
  node.key = wide_text(f.bytes(head_size, at - head_size));
  at = (at + 2 + 3) / 4 * 4;
  std::size_t size = head.wType == 1 ? std::size_t{head.wValueLength} * 2 : head.wValueLength;  // 1: text
  at = std::min(at, length);
  size = std::min(size, length - at);
  node.value = raw.subspan(at, size);
  std::size_t inner = std::min((at + size + 3) / 4 * 4, length);
  node.children = raw.subspan(inner, length - inner);
  node.length = std::min((length + 3) / 4 * 4, raw.size());
  return node;
}

std::string version_number(std::uint32_t high, std::uint32_t low) {
  return fmt::format("{}.{}.{}.{}", high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF);
}

Bytes make_version(const Source& bytes, const Resource& resource) {
  std::string text;
  for (const auto& [name, value] : read_version(bytes_of(bytes, resource)))
    text += fmt::format("{}: {}\n", escape(name), escape(value));
  return Bytes(text.begin(), text.end());
}

std::string safe_part(std::string text) {
  std::replace(text.begin(), text.end(), '/', '_');
  std::replace(text.begin(), text.end(), '\\', '_');
  return text.empty() ? "_" : text;
}

}  // namespace

std::vector<Resource> read_resources(const Source& bytes, const Image& image,
                                     const std::function<void(const std::string&)>& trouble) {
  return TreeReader(bytes, image, trouble).read();
}

Facts read_version(ByteView raw) {
  Facts values;
  auto root = version_node(raw);
  if (!root || root->key != "VS_VERSION_INFO") return values;
  if (root->value.size() >= size_on_disk<FixedFileInfo>) {
    auto fixed = read_structure<FixedFileInfo>(root->value.data());
    values.emplace_back("File version", version_number(fixed.dwFileVersionMS, fixed.dwFileVersionLS));
    values.emplace_back("Product version",
                        version_number(fixed.dwProductVersionMS, fixed.dwProductVersionLS));
  }
  auto each = [](ByteView within, const std::function<void(const VersionNode&)>& visitor) {
    while (auto node = version_node(within)) {
      visitor(*node);
      within = within.subspan(node->length);
    }
  };
  each(root->children, [&](const VersionNode& info) {
    if (info.key != "StringFileInfo") return;
    each(info.children, [&](const VersionNode& table) {
      each(table.children, [&](const VersionNode& string) {
        std::string value = wide_text(string.value);
        values.emplace_back(string.key, until_zero(value));
      });
    });
  });
  return values;
}

std::vector<Presented> present(const SourcePtr& bytes, const std::vector<Resource>& resources) {
  auto icons = std::make_shared<Images>(), cursors = std::make_shared<Images>();  // by number
  std::map<std::uint32_t, std::vector<Resource>> strings;                         // by language
  std::map<std::pair<std::string, std::string>, std::size_t> languages;
  auto folder_of = [](const Resource& one) {
    const TypeName* known = one.type_name.empty() ? find_type(one.type) : nullptr;
    if (known != nullptr) return std::string(known->folder);
    return one.type_name.empty() ? fmt::format("type-{}", one.type) : safe_part(one.type_name);
  };
  auto name_of_one = [](const Resource& one) {
    return one.name.empty() ? std::to_string(one.number) : safe_part(one.name);
  };
  for (const Resource& one : resources) {
    if (one.type == icon_resource) icons->emplace(one.number, one);
    if (one.type == cursor_resource) cursors->emplace(one.number, one);
    if (one.type == strings_resource) strings[one.language].push_back(one);
    ++languages[{folder_of(one), name_of_one(one)}];
  }
  std::vector<Presented> shown;
  for (const auto& [language, blocks] : strings) {
    std::string path = strings.size() == 1 ? "strings.txt" : fmt::format("strings.{:04x}.txt", language);
    shown.push_back({path, 0, 0, [bytes, blocks = blocks] { return make_strings(*bytes, blocks); }});
  }
  for (const Resource& one : resources) {
    if (one.type == strings_resource && one.type_name.empty()) continue;
    std::string folder = folder_of(one), name = name_of_one(one);
    const TypeName* known = one.type_name.empty() ? find_type(one.type) : nullptr;
    std::string language =
        languages[{folder, name}] > 1 ? fmt::format(".{:04x}", one.language) : std::string();
    std::string_view ending = known != nullptr ? known->ending : "";
    Presented made{fmt::format("{}/{}{}{}", folder, name, language, ending), one.at, one.size, nullptr};
    std::uint32_t type = one.type_name.empty() ? one.type : 0;
    if (type == bitmap_resource) made.make = [bytes, one] { return make_bitmap(bytes_of(*bytes, one)); };
    if (type == kVersionType) made.make = [bytes, one] { return make_version(*bytes, one); };
    if (type == group_icon_resource)
      made.make = [bytes, one, icons] { return make_group(*bytes, one, *icons, false); };
    if (type == group_cursor_resource)
      made.make = [bytes, one, cursors] { return make_group(*bytes, one, *cursors, true); };
    shown.push_back(std::move(made));
  }
  return shown;
}

}  // namespace operculum::pe
