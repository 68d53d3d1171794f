#include "support/pe_writer.h"

#include <algorithm>
#include <map>

#include "support/byte_writer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kFileAlignment = 512, kHeaders = 1024, kSection = 0x1000;

std::size_t aligned(std::size_t size, std::size_t to) {
  return (size + to - 1) / to * to;
}

Bytes wide(std::string_view text) {
  ByteWriter out;
  for (char c : text) out.u16(static_cast<unsigned char>(c));
  return out.take();
}

/// What a level of the tree is sorted by: named ones first.
struct Key {
  bool numbered;
  unsigned number;
  std::string name;
  auto operator<=>(const Key&) const = default;
};

/// The resource section; `address` is where it is loaded.
Bytes resource_section(const std::vector<PeResource>& resources, std::size_t address) {
  using Languages = std::map<Key, const PeResource*>;
  std::map<Key, std::map<Key, Languages>> tree;
  for (const PeResource& one : resources) {
    Key type{one.type_name.empty(), one.type_name.empty() ? one.type : 0, one.type_name};
    Key name{one.name.empty(), one.name.empty() ? one.number : 0, one.name};
    tree[type][name][{true, one.language, ""}] = &one;
  }
  std::size_t tables = 16 + tree.size() * 8, leaves = 0;
  for (const auto& [type, names] : tree) {
    tables += 16 + names.size() * 8;
    for (const auto& [name, languages] : names) {
      tables += 16 + languages.size() * 8;
      leaves += languages.size();
    }
  }
  Canvas out(tables + leaves * 16);
  std::size_t next_table = 16 + tree.size() * 8, next_leaf = tables;
  std::vector<std::pair<std::size_t, std::string>> names;  // where a name's offset belongs
  std::vector<std::pair<std::size_t, const PeResource*>> data;
  auto table = [&](std::size_t at, const auto& level, const auto& place) {
    std::size_t row = at + 16, named = 0;
    for (const auto& [key, value] : level) {
      named += key.numbered ? 0 : 1;
      if (key.numbered) {
        out.u32(row, key.number);
      } else {
        names.emplace_back(row, key.name);
      }
      out.u32(row + 4, place(value));
      row += 8;
    }
    out.u16(at + 12, named);
    out.u16(at + 14, level.size() - named);
  };
  auto reserve = [&](std::size_t rows) {
    std::size_t at = next_table;
    next_table += 16 + rows * 8;
    return at;
  };
  table(0, tree, [&](const std::map<Key, Languages>& of_type) {
    std::size_t at = reserve(of_type.size());
    table(at, of_type, [&](const Languages& languages) {
      std::size_t inner = reserve(languages.size());
      table(inner, languages, [&](const PeResource* resource) {
        data.emplace_back(next_leaf, resource);
        next_leaf += 16;
        return next_leaf - 16;
      });
      return inner | 0x80000000;
    });
    return at | 0x80000000;
  });
  for (const auto& [row, name] : names) {
    std::size_t at = aligned(out.size(), 2);
    out.u32(row, at | 0x80000000);
    out.put(at, ByteWriter().u16(name.size()).bytes(wide(name)).take());
  }
  for (auto [leaf, resource] : data) {
    std::size_t at = aligned(out.size(), 8);
    out.put(at, resource->data);
    out.u32(leaf, address + at);
    out.u32(leaf + 4, resource->data.size());
  }
  return out.take();
}

Bytes version_node(std::string_view key, ByteView value, bool is_text, const std::vector<Bytes>& children) {
  ByteWriter out;
  out.u16(0)
      .u16(is_text ? value.size() / 2 : value.size())
      .u16(is_text ? 1 : 0)
      .bytes(wide(key))
      .u16(0)
      .align(4);
  out.bytes(value);
  for (const Bytes& child : children) out.align(4).bytes(child);
  Bytes bytes = out.take();
  bytes[0] = static_cast<Byte>(bytes.size() & 0xFF);
  bytes[1] = static_cast<Byte>(bytes.size() >> 8);
  return bytes;
}

}  // namespace

Bytes make_pe(const std::vector<PeResource>& resources, const PeOptions& options) {
  Bytes code = options.code.empty() ? Bytes(16, 0xC3) : options.code;
  Bytes resource = resource_section(resources, 0);
  std::size_t resource_address = kSection + aligned(code.size(), kSection);
  resource = resource_section(resources, resource_address);
  std::size_t code_at = kHeaders, resource_at = code_at + aligned(code.size(), kFileAlignment);
  std::size_t end = resource_at + aligned(resource.size(), kFileAlignment);
  std::size_t optional = options.wide ? 240 : 224, directories = options.wide ? 112 : 96;
  Canvas out(end);
  out.text(0, "MZ");
  out.u32(60, 128);
  out.text(128, std::string_view("PE\0\0", 4));
  out.u16(132, options.wide ? 0x8664 : 0x014C);
  out.u16(134, 2);
  out.u16(148, optional);
  out.u16(150, 0x22);
  std::size_t at = 152;
  out.u16(at, options.wide ? 0x20B : 0x10B);
  out.u32(at + 16, kSection);
  out.u32(at + 32, kSection);
  out.u32(at + 36, kFileAlignment);
  out.u32(at + 56, resource_address + aligned(resource.size(), kSection));
  out.u32(at + 60, kHeaders);
  out.u16(at + 68, 2);
  out.u32(at + directories - 4, 16);
  out.u32(at + directories + 16, resource_address);
  out.u32(at + directories + 20, resource.size());
  std::size_t section = at + optional;
  auto describe = [&](std::string_view name, std::size_t address, std::size_t size, std::size_t file_at) {
    out.text(section, name);
    out.u32(section + 8, size);
    out.u32(section + 12, address);
    out.u32(section + 16, aligned(size, kFileAlignment));
    out.u32(section + 20, file_at);
    section += 40;
  };
  describe(".text", kSection, code.size(), code_at);
  describe(".rsrc", resource_address, resource.size(), resource_at);
  out.put(code_at, code);
  out.put(resource_at, resource);
  if (!options.overlay.empty()) out.put(end, options.overlay);
  if (!options.signature.empty()) {
    std::size_t signature_at = aligned(out.size(), 8);
    Bytes row = ByteWriter()
                    .u32(options.signature.size() + 8)
                    .u16(0x200)
                    .u16(2)
                    .bytes(options.signature)
                    .align(8)
                    .take();
    out.u32(at + directories + 32, signature_at);
    out.u32(at + directories + 36, row.size());
    out.put(signature_at, row);
  }
  return out.take();
}

Bytes make_version(const std::vector<std::pair<std::string, std::string>>& strings) {
  std::vector<Bytes> rows;
  for (const auto& [name, value] : strings)
    rows.push_back(version_node(name, ByteWriter().bytes(wide(value)).u16(0).take(), true, {}));
  Bytes fixed = ByteWriter()
                    .u32(0xFEEF04BD)
                    .u32(0x10000)
                    .u32(0x10002)
                    .u32(0x30004)
                    .u32(0x10002)
                    .u32(0)
                    .zeros(28)
                    .take();
  Bytes table = version_node("040904b0", {}, true, rows);
  return version_node("VS_VERSION_INFO", fixed, false, {version_node("StringFileInfo", {}, true, {table})});
}

}  // namespace operculum::test
