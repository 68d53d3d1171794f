#include "support/firmware_writer.h"

#include <zlib.h>

#include <map>
#include <stdexcept>

#include "base/checksum.h"
#include "base/text.h"
#include "cipher/block_ciphers.h"

namespace operculum::test {
namespace {

class TreeWriter {
 public:
  void node(const TreeNode& one) {
    tokens_.u32be(1).text(one.name).u8(0).align(4);
    for (const auto& [name, value] : one.properties) {
      tokens_.u32be(3).u32be(value.size()).u32be(name_at(name)).bytes(value).align(4);
    }
    for (const TreeNode& child : one.nodes) node(child);
    tokens_.u32be(2);
  }

  Bytes build(const TreeNode& root) {
    node(root);
    tokens_.u32be(9);
    std::size_t structure = 40 + 16, strings = structure + tokens_.size();
    ByteWriter out;
    out.u32be(0xD00DFEED)
        .u32be(strings + names_.size())
        .u32be(structure)
        .u32be(strings)
        .u32be(40)
        .u32be(17)
        .u32be(16)
        .u32be(0);
    out.u32be(names_.size()).u32be(tokens_.size()).zeros(16).bytes(tokens_.view()).bytes(names_.view());
    return out.take();
  }

 private:
  std::size_t name_at(const std::string& name) {
    auto [found, isnew] = places_.emplace(name, names_.size());
    if (isnew) names_.text(name).u8(0);
    return found->second;
  }
  ByteWriter tokens_, names_;
  std::map<std::string, std::size_t> places_;
};

/// With padding after PKCS #7.
Bytes seal(const FitImage& image) {
  Bytes padded = image.data;
  std::size_t count = 16 - padded.size() % 16;
  padded.insert(padded.end(), count, static_cast<Byte>(count));
  StreamPtr sealed = seal_block_cipher(make_source_stream(make_memory_source(padded)), make_aes(image.key),
                                       BlockMode::cbc, image.iv);
  return read_all(*sealed, padded.size());
}

}  // namespace

Bytes cell(std::uint32_t value) {
  return ByteWriter().u32be(value).take();
}
Bytes cells(std::vector<std::uint32_t> all) {
  ByteWriter out;
  for (std::uint32_t one : all) out.u32be(one);
  return out.take();
}
Bytes zero_ended(std::string_view text) {
  return ByteWriter().text(text).u8(0).take();
}

Bytes make_device_tree(const TreeNode& root) {
  return TreeWriter().build(root);
}

Bytes make_fit(const std::string& description, const std::vector<FitImage>& images, bool external) {
  TreeNode all{"images"};
  ByteWriter behind;
  TreeNode usual{"conf-1", {{"description", zero_ended("usual")}}};
  for (const FitImage& image : images) {
    bool sealed = !image.key.empty();
    Bytes data = sealed ? seal(image) : image.data;
    TreeNode node{image.name,
                  {{"description", zero_ended(image.name)},
                   {"type", zero_ended(image.type)},
                   {"compression", zero_ended("none")}}};
    if (external) {
      behind.align(4);
      node.properties.emplace_back("data-offset", cell(static_cast<std::uint32_t>(behind.size())));
      node.properties.emplace_back("data-size", cell(static_cast<std::uint32_t>(data.size())));
      behind.bytes(data);
    } else {
      node.properties.emplace_back("data", data);
    }
    if (sealed) {
      node.properties.emplace_back("data-size-unciphered",
                                   cell(static_cast<std::uint32_t>(image.data.size())));
      node.nodes.push_back({"cipher",
                            {{"algo", zero_ended(image.key.size() == 16 ? "aes128" : "aes256")},
                             {"key-name-hint", zero_ended(image.key_name)},
                             {"iv", image.iv}}});
    }
    node.nodes.push_back(
        {"hash-1", {{"algo", zero_ended("sha256")}, {"value", *from_hex(sha256_hex(data))}}});
    if (image.type == "kernel") usual.properties.emplace_back("kernel", zero_ended(image.name));
    if (image.type == "flat_dt") usual.properties.emplace_back("fdt", zero_ended(image.name));
    all.nodes.push_back(std::move(node));
  }
  TreeNode root{"",
                {{"description", zero_ended(description)}, {"timestamp", cell(1772373908)}},
                {all, {"configurations", {{"default", zero_ended("conf-1")}}, {usual}}}};
  ByteWriter out;
  out.bytes(make_device_tree(root)).align(4).bytes(behind.view());
  return out.take();
}

namespace {

Bytes boot_image(const std::string& name, const Bytes& data, unsigned kind, unsigned packing) {
  ByteWriter out;
  out.u32be(0x27051956)
      .u32be(0)
      .u32be(1772373908)
      .u32be(data.size())
      .u32be(0x80008000)
      .u32be(0x80008040)
      .u32be(crc32(0, data));
  out.u8(5).u8(2).u8(kind).u8(packing).text(name).zeros(32 - name.size()).bytes(data);
  Canvas canvas(out.take());
  canvas.big(4, crc32(0, canvas.part(0, 64)), 4);
  return canvas.take();
}

}  // namespace

Bytes make_boot_image(const std::string& name, const Bytes& data, unsigned kind, unsigned packing) {
  return boot_image(name, data, kind, packing);
}

Bytes make_multi_boot_image(const std::vector<Bytes>& files) {
  ByteWriter data;
  for (const Bytes& one : files) data.u32be(one.size());
  data.u32be(0);
  for (const Bytes& one : files) data.bytes(one).align(4);
  return boot_image("several", data.take(), 4, 0);
}

// ---- JFFS2

void Jffs2Writer::number(std::uint64_t value, std::size_t width) {
  for (std::size_t i = 0; i < width; ++i)
    bytes_.push_back(static_cast<Byte>(value >> (8 * (order_ == std::endian::little ? i : width - 1 - i))));
}

namespace {
std::uint32_t sum(ByteView bytes) {
  return ~crc32(0xFFFFFFFF, bytes);
}
}  // namespace

/// Puts the sum of the first `summed` bytes of a node where it belongs.
void Jffs2Writer::finish(std::size_t begin, std::size_t sum_at, std::size_t summed) {
  std::uint32_t value = sum(ByteView(bytes_).subspan(begin, summed));
  for (std::size_t i = 0; i < 4; ++i)
    bytes_[begin + sum_at + i] =
        static_cast<Byte>(value >> (8 * (order_ == std::endian::little ? i : 3 - i)));
}

Jffs2Writer& Jffs2Writer::name(std::uint32_t folder, std::uint32_t inode, const std::string& name,
                               unsigned type, std::uint32_t version) {
  std::size_t begin = bytes_.size();
  number(0x1985, 2);
  number(0xE001, 2);
  number(40 + name.size(), 4);
  number(0, 4);
  number(folder, 4);
  number(version, 4);
  number(inode, 4);
  number(1772373908, 4);
  number(name.size(), 1);
  number(type, 1);
  number(0, 2);
  number(0, 4);
  number(sum(as_bytes(name)), 4);
  bytes_.insert(bytes_.end(), name.begin(), name.end());
  finish(begin, 8, 8);
  finish(begin, 32, 32);
  bytes_.resize((bytes_.size() + 3) / 4 * 4, 0xFF);
  return *this;
}

Jffs2Writer& Jffs2Writer::piece(std::uint32_t inode, std::uint32_t mode, std::uint32_t version,
                                std::uint32_t offset, const Bytes& data, std::uint32_t size,
                                unsigned packing) {
  Bytes stored = data;
  if (packing == 6) {
    uLongf length = compressBound(data.size());
    stored.resize(length);
    if (compress(stored.data(), &length, data.data(), data.size()) != Z_OK) throw std::runtime_error("zlib");
    stored.resize(length);
  }
  std::size_t begin = bytes_.size();
  number(0x1985, 2);
  number(0xE002, 2);
  number(68 + stored.size(), 4);
  number(0, 4);
  number(inode, 4);
  number(version, 4);
  number(mode, 4);
  number(10, 2);
  number(20, 2);
  number(size, 4);
  for (int i = 0; i < 3; ++i) number(1772373908, 4);
  number(offset, 4);
  number(stored.size(), 4);
  number(data.size(), 4);
  number(packing, 1);
  number(0, 3);
  number(sum(stored), 4);
  number(0, 4);
  bytes_.insert(bytes_.end(), stored.begin(), stored.end());
  finish(begin, 8, 8);
  finish(begin, 64, 60);
  bytes_.resize((bytes_.size() + 3) / 4 * 4, 0xFF);
  return *this;
}

Jffs2Writer& Jffs2Writer::folder(std::uint32_t parent, std::uint32_t inode, const std::string& text) {
  return name(parent, inode, text, 4, 1).piece(inode, 040755, 1, 0, {}, 0);
}

Jffs2Writer& Jffs2Writer::file(std::uint32_t parent, std::uint32_t inode, const std::string& text,
                               const Bytes& data, std::uint32_t version) {
  name(parent, inode, text, 8, version);
  std::uint32_t piece_version = 1;
  constexpr std::size_t kPage = 4096;
  for (std::size_t at = 0; at < data.size() || at == 0; at += kPage) {
    Bytes part(data.begin() + static_cast<std::ptrdiff_t>(at),
               data.begin() + static_cast<std::ptrdiff_t>(std::min(data.size(), at + kPage)));
    piece(inode, 0100644, piece_version++, static_cast<std::uint32_t>(at), part,
          static_cast<std::uint32_t>(data.size()), part.size() > 100 ? 6 : 0);
  }
  return *this;
}

Bytes Jffs2Writer::build(std::size_t size) {
  if (bytes_.size() < size) bytes_.resize(size, 0xFF);
  return bytes_;
}

// ---- UEFI

Bytes guid_bytes(std::string_view text) {
  std::string digits;
  for (char c : text) {
    if (c != '-') digits += c;
  }
  Bytes raw = *from_hex(digits);
  std::swap(raw[0], raw[3]);
  std::swap(raw[1], raw[2]);
  std::swap(raw[4], raw[5]);
  std::swap(raw[6], raw[7]);
  return raw;
}

Bytes uefi_section(unsigned type, const Bytes& data) {
  std::size_t size = data.size() + 4;
  return ByteWriter().u16(size & 0xFFFF).u8(size >> 16).u8(type).bytes(data).take();
}

Bytes uefi_guided(std::string_view guid, const Bytes& data, unsigned attributes) {
  return uefi_section(2, ByteWriter().bytes(guid_bytes(guid)).u16(24).u16(attributes).bytes(data).take());
}

Bytes uefi_name(std::string_view text) {
  ByteWriter wide;
  for (char c : text) wide.u16(static_cast<Byte>(c));
  return uefi_section(0x15, wide.u16(0).take());
}

Bytes uefi_file(std::string_view guid, unsigned type, const std::vector<Bytes>& sections) {
  ByteWriter body;
  for (const Bytes& one : sections) body.align(4).bytes(one);
  std::size_t size = body.size() + 24;
  ByteWriter out;
  out.bytes(guid_bytes(guid)).u8(0).u8(0xAA).u8(type).u8(0).u16(size & 0xFFFF).u8(size >> 16).u8(0);
  Bytes header = out.take();
  unsigned total = 0;
  for (std::size_t i = 0; i < header.size(); ++i) total += i == 17 ? 0 : header[i];
  header[16] = static_cast<Byte>(0x100 - (total & 0xFF));
  header[23] = 0xF8;  // its state: the erased bits are ones
  return ByteWriter().bytes(header).bytes(body.view()).take();
}

Bytes uefi_volume(const std::vector<Bytes>& files, std::size_t size, std::string_view kind) {
  ByteWriter out;
  out.zeros(16)
      .bytes(guid_bytes(kind))
      .u64(size)
      .text("_FVH")
      .u32(0x800)
      .u16(72)
      .u16(0)
      .u16(0)
      .u8(0)
      .u8(2)
      .u32(size / 4096)
      .u32(4096)
      .u64(0);
  for (const Bytes& one : files) {
    while (out.size() % 8 != 0) out.u8(0xFF);
    out.bytes(one);
  }
  Bytes bytes = out.take();
  bytes.resize(size, 0xFF);
  unsigned total = 0;
  for (std::size_t i = 0; i < 72; i += 2) total += bytes[i] | bytes[i + 1] << 8;
  unsigned sum16 = 0x10000 - (total & 0xFFFF);
  bytes[50] = static_cast<Byte>(sum16);
  bytes[51] = static_cast<Byte>(sum16 >> 8);
  return bytes;
}

Bytes uefi_variables(const std::vector<UefiVariable>& variables, std::size_t size) {
  ByteWriter out;
  out.bytes(guid_bytes("aaf32c78-947b-439a-a180-2e144ec37792")).u32(size).u8(0x5A).u8(0xFE).zeros(6);
  for (const UefiVariable& one : variables) {
    out.u16(0x55AA).u8(one.state).u8(0).u32(7).zeros(28).u32(2 * (one.name.size() + 1)).u32(one.data.size());
    out.bytes(guid_bytes("8be4df61-93ca-11d2-aa0d-00e098032b8c"));
    for (char c : one.name) out.u16(static_cast<Byte>(c));
    out.u16(0).bytes(one.data).align(4);
  }
  Bytes bytes = out.take();
  bytes.resize(size, 0xFF);
  return bytes;
}

}  // namespace operculum::test
