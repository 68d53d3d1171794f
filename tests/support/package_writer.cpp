#include "support/package_writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/text.h"
#include "codec/codec.h"
#include "support/lzx_writer.h"
#include "support/pack_tools.h"
#include "support/tar_builder.h"
#include "support/xpress_writer.h"

namespace operculum::test {
namespace {

std::uint32_t mode_of(const SampleNode& node) {
  switch (node.kind) {
    case EntryKind::folder:
      return 0040000 | node.permissions();
    case EntryKind::symbolic_link:
      return 0120777;
    default:
      return 0100000 | node.permissions();
  }
}

Bytes packed_by(const std::string& codec, const Bytes& plain) {
  return codec == "stored" ? plain : encode(codec, plain);
}

// ---- RPM

/// A header structure: values by tag.
class RpmHeader {
 public:
  void text(unsigned tag, const std::string& value) { add(tag, 6, 1, to_bytes(value + '\0')); }
  void texts(unsigned tag, const std::vector<std::string>& values) {
    ByteWriter out;
    for (const std::string& value : values) out.text(value).u8(0);
    add(tag, 8, values.size(), out.take());
  }
  void numbers(unsigned tag, const std::vector<std::uint64_t>& values, unsigned width) {
    ByteWriter out;
    for (std::uint64_t value : values) {
      if (width == 2) out.u16be(value);
      if (width == 4) out.u32be(value);
      if (width == 8) out.u64be(value);
    }
    store_.align(width);
    add(tag, width == 2 ? 3 : width == 4 ? 4 : 5, values.size(), out.take());
  }
  void binary(unsigned tag, const Bytes& value) { add(tag, 7, value.size(), value); }
  Bytes take() {
    ByteWriter out;
    out.u32be(0x8EADE801).u32(0).u32be(index_.size() / 16).u32be(store_.size());
    return out.bytes(index_.view()).bytes(store_.view()).take();
  }

 private:
  void add(unsigned tag, unsigned type, std::size_t count, const Bytes& bytes) {
    index_.u32be(tag).u32be(type).u32be(store_.size()).u32be(count);
    store_.bytes(bytes);
  }
  ByteWriter index_, store_;
};

}  // namespace

Bytes make_rpm(const SampleTree& tree, const RpmOptions& options) {
  std::vector<std::string> names, folders, digests, links, owners, groups;
  std::vector<std::uint64_t> indexes, sizes, modes, times, devices, flags, inodes, on;
  std::map<std::string, std::size_t> position;
  ByteWriter payload;
  auto content_of = [&](const SampleNode& node) -> const Bytes& {
    if (node.kind != EntryKind::hard_link) return node.data;
    return std::find_if(tree.begin(), tree.end(),
                        [&](const SampleNode& one) { return one.path == node.target; })
        ->data;
  };
  std::map<std::string, std::size_t> last;  // of the names of a file, by the first one
  for (std::size_t i = 0; i < tree.size(); ++i)
    last[tree[i].kind == EntryKind::hard_link ? tree[i].target : tree[i].path] = i;
  for (std::size_t i = 0; i < tree.size(); ++i) {
    const SampleNode& node = tree[i];
    bool data_kind = node.kind == EntryKind::file || node.kind == EntryKind::hard_link;
    const std::string& first = node.kind == EntryKind::hard_link ? node.target : node.path;
    const Bytes& data = content_of(node);
    std::string folder = "/" + node.parent() + (node.parent().empty() ? "" : "/");
    auto known = std::find(folders.begin(), folders.end(), folder);
    if (known == folders.end()) known = folders.insert(folders.end(), folder);
    names.push_back(node.name());
    indexes.push_back(static_cast<std::uint64_t>(known - folders.begin()));
    sizes.push_back(data_kind ? data.size() : node.target.size());
    modes.push_back(mode_of(node));
    times.push_back(static_cast<std::uint64_t>(node.time));
    devices.push_back(0);
    flags.push_back(0);
    on.push_back(1);
    position.try_emplace(first, i + 1);
    inodes.push_back(position[first]);
    digests.push_back(data_kind ? to_hex(digest(options.digest == 1 ? "MD5" : "SHA256", data)) : "");
    links.push_back(node.kind == EntryKind::symbolic_link ? node.target : "");
    owners.emplace_back("root");
    groups.emplace_back("root");
    Bytes stored = node.kind == EntryKind::symbolic_link ? to_bytes(node.target)
                   : data_kind && last[first] == i       ? data
                                                         : Bytes();
    if (options.nameless) {
      // Sizes come from the header, also those of the names without data.
      if (data_kind && last[first] != i) stored = data;
      payload.text(fmt::format("07070X{:08x}", i)).zeros(2).bytes(stored).align(4);
      if (node.kind == EntryKind::folder) sizes.back() = 0;
    } else {
      std::string name = "./" + node.path;
      payload.text(fmt::format(
          "070701{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}{:08x}",
          position[first], modes.back(), 0, 0, 1, node.time, stored.size(), 0, 0, 0, 0, name.size() + 1, 0));
      payload.text(name).u8(0).align(4).bytes(stored).align(4);
    }
  }
  payload.text(fmt::format("07070100000000{:0>80}0000000b00000000", "1")).text("TRAILER!!!").u8(0).align(4);
  RpmHeader header;
  header.text(1000, "chart-display");
  header.text(1001, "2.1.0");
  header.text(1002, "1");
  header.text(1004, "Shows the tide chart");
  header.text(1022, "noarch");
  if (!options.post.empty()) {
    header.text(1024, options.post);
    header.text(1086, "/bin/sh");
  }
  header.numbers(1028, sizes, 4);
  header.numbers(1030, modes, 2);
  header.numbers(1033, devices, 2);
  header.numbers(1034, times, 4);
  header.texts(1035, digests);
  header.texts(1036, links);
  header.numbers(1037, flags, 4);
  header.texts(1039, owners);
  header.texts(1040, groups);
  header.texts(1049, {"/bin/sh", "rpmlib(CompressedFileNames)"});
  header.numbers(1095, on, 4);
  header.numbers(1096, inodes, 4);
  header.numbers(1116, indexes, 4);
  header.texts(1117, names);
  header.texts(1118, folders);
  header.text(1124, "cpio");
  header.text(1125, options.codec);
  header.numbers(5011, {options.digest}, 4);
  Bytes packed = packed_by(options.codec, payload.take());
  header.texts(5092, {to_hex(digest("SHA256", packed))});
  header.numbers(5093, {8}, 4);
  Bytes main = header.take();
  RpmHeader signature;
  signature.text(273, to_hex(digest("SHA256", main)));
  signature.numbers(1000, {main.size() + packed.size()}, 4);
  ByteWriter out;
  out.u32be(0xEDABEEDB)
      .u8(3)
      .u8(0)
      .u16be(0)
      .u16be(1)
      .text("chart-display-2.1.0-1")
      .zeros(66 - 21)
      .u16be(1)
      .u16be(5)
      .zeros(16);
  out.bytes(signature.take()).align(8).bytes(main).bytes(packed);
  return out.take();
}

// ---- xar

Bytes make_xar(const SampleTree& tree, const XarOptions& options) {
  std::map<std::string, std::string> codecs = {{"application/octet-stream", "stored"},
                                               {"application/x-gzip", "zlib"},
                                               {"application/x-bzip2", "bzip2"},
                                               {"application/x-lzma", "lzma-alone"},
                                               {"application/x-xz", "xz"}};
  std::string name = options.sum;
  std::transform(name.begin(), name.end(), name.begin(), [](unsigned char c) { return std::toupper(c); });
  std::size_t sum_size = digest(name.c_str(), {}).size();
  ByteWriter heap;
  heap.zeros(sum_size);
  int id = 0;
  auto one = [&](auto& self, const std::string& folder) -> std::string {
    std::string text;
    for (std::size_t i : children_of(tree, folder)) {
      const SampleNode& node = tree[i];
      text += fmt::format(
          "<file id=\"{}\"><name>{}</name><mode>{:04o}</mode><mtime>2026-03-01T14:05:08Z</mtime>"
          "<user>curator</user><group>museum</group>",
          ++id, node.name(), node.permissions());
      if (node.kind == EntryKind::folder) {
        text += "<type>directory</type>" + self(self, node.path);
      } else if (node.kind == EntryKind::symbolic_link) {
        text += fmt::format("<type>symlink</type><link type=\"file\">{}</link>", node.target);
      } else {
        Bytes packed = packed_by(codecs.at(options.encoding), node.data);
        if (!options.note.empty()) {
          text += fmt::format(
              "<ea id=\"0\"><name>note</name><length>{0}</length><offset>{1}</offset>"
              "<size>{0}</size><encoding style=\"application/octet-stream\"/></ea>",
              options.note.size(), heap.size());
          heap.text(options.note);
        }
        text += fmt::format(
            "<type>file</type><data><length>{}</length><offset>{}</offset><size>{}</size>"
            "<encoding style=\"{}\"/><extracted-checksum style=\"{}\">{}</extracted-checksum></data>",
            packed.size(), heap.size(), node.data.size(), options.encoding, options.sum,
            to_hex(digest(name.c_str(), node.data)));
        heap.bytes(packed);
      }
      text += "</file>";
    }
    return text;
  };
  std::string files = one(one, "");
  std::string table = fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?><xar><toc><creation-time>2026-03-01T14:05:08</"
      "creation-time><checksum style=\"{}\"><offset>0</offset><size>{}</size></checksum>{}</toc></xar>",
      options.sum, sum_size, files);
  Bytes packed = encode("zlib", to_bytes(table));
  Bytes all = heap.take(), sum = digest(name.c_str(), packed);
  std::copy(sum.begin(), sum.end(), all.begin());
  ByteWriter out;
  out.text("xar!").u16be(28).u16be(1).u64be(packed.size()).u64be(table.size()).u32be(1);
  return out.bytes(packed).bytes(all).take();
}

// ---- WIM

namespace {

class WimWriter {
 public:
  WimWriter(const SampleTree& tree, const WimOptions& options) : tree_(tree), options_(options) {}

  std::vector<Bytes> make() {
    for (std::size_t i = 0; i < options_.parts; ++i) {
      parts_.emplace_back();
      parts_.back().bytes.zeros(208);
    }
    for (const SampleNode& node : tree_) {
      if (node.kind == EntryKind::file) data(node.data);
      if (node.kind == EntryKind::symbolic_link) data(reparse(node));
    }
    if (!options_.streamed.empty()) data(to_bytes("read me twice"));
    if (options_.solid) write_solid();
    for (unsigned i = 0; i < options_.images; ++i) {
      Bytes metadata = image();
      resource(parts_[0], metadata, digest("SHA1", metadata), 2, 1);
    }
    std::vector<Bytes> all;
    for (std::size_t i = 0; i < parts_.size(); ++i) all.push_back(finish(i));
    return all;
  }

 private:
  static constexpr std::size_t kChunk = 32768;

  struct Part {
    ByteWriter bytes, lookup;
  };

  Bytes pack_chunk(ByteView plain) const {
    Bytes packed = options_.packing == WimOptions::Packing::lzx      ? pack_lzx_chunk(plain, 15)
                   : options_.packing == WimOptions::Packing::xpress ? pack_xpress(plain)
                                                                     : Bytes(plain.begin(), plain.end());
    return packed.size() < plain.size() ? packed : Bytes(plain.begin(), plain.end());
  }

  std::vector<Bytes> chunks_of(ByteView plain) const {
    std::vector<Bytes> chunks;
    for (std::size_t at = 0; at < plain.size(); at += kChunk)
      chunks.push_back(pack_chunk(plain.subspan(at, std::min(kChunk, plain.size() - at))));
    return chunks;
  }

  static void row(Part& part, std::uint64_t stored, unsigned flags, std::uint64_t offset, std::uint64_t size,
                  unsigned number, const Bytes& hash) {
    part.lookup.u64(stored | std::uint64_t{flags} << 56).u64(offset).u64(size).u16(number).u32(1).bytes(hash);
  }

  /// A resource with its row; `flags` 2 is metadata.
  void resource(Part& part, ByteView plain, const Bytes& hash, unsigned flags, unsigned number) {
    std::size_t at = part.bytes.size();
    if (options_.packing == WimOptions::Packing::none) {
      part.bytes.bytes(plain);
    } else {
      flags |= 4;
      std::vector<Bytes> chunks = chunks_of(plain);
      std::size_t offset = 0;
      for (std::size_t i = 0; i + 1 < chunks.size(); ++i) part.bytes.u32(offset += chunks[i].size());
      for (const Bytes& chunk : chunks) part.bytes.bytes(chunk);
    }
    row(part, part.bytes.size() - at, flags, at, plain.size(), number, hash);
  }

  void data(const Bytes& plain) {
    Bytes hash = digest("SHA1", plain);
    if (plain.empty() || !seen_.insert({hash, true}).second) return;
    if (options_.solid) {
      solid_.emplace_back(plain, hash);
      return;
    }
    std::size_t part = turn_++ % parts_.size();
    resource(parts_[part], plain, hash, 0, static_cast<unsigned>(part + 1));
  }

  void write_solid() {
    ByteWriter plain;
    for (const auto& [bytes, hash] : solid_) plain.bytes(bytes);
    Part& part = parts_[0];
    std::size_t at = part.bytes.size();
    unsigned kind = options_.packing == WimOptions::Packing::lzx      ? 2
                    : options_.packing == WimOptions::Packing::xpress ? 1
                                                                      : 0;
    part.bytes.u64(plain.size()).u32(kChunk).u32(kind);
    std::vector<Bytes> chunks = chunks_of(plain.view());
    for (const Bytes& chunk : chunks) part.bytes.u32(chunk.size());
    for (const Bytes& chunk : chunks) part.bytes.bytes(chunk);
    row(part, part.bytes.size() - at, 16 | 4, at, std::uint64_t{1} << 32, 1, Bytes(20));
    std::size_t offset = 0;
    for (const auto& [bytes, hash] : solid_) {
      row(part, bytes.size(), 16 | 4, offset, 0, 1, hash);
      offset += bytes.size();
    }
  }

  static Bytes wide(std::string_view text) {
    ByteWriter out;
    for (char c : text) out.u16(static_cast<unsigned char>(c));
    return out.take();
  }

  static Bytes reparse(const SampleNode& node) {
    Bytes target = wide(node.target);
    return ByteWriter()
        .u16(0)
        .u16(target.size())
        .u16(target.size())
        .u16(target.size())
        .u32(1)
        .bytes(target)
        .bytes(target)
        .take();
  }

  /// Root, then each folder's entries.
  Bytes image() const {
    Canvas out(8);
    out.u32(0, 8);
    auto node_bytes = [&](const SampleNode* node, std::uint64_t below) {
      ByteWriter own;
      bool folder = node == nullptr || node->kind == EntryKind::folder;
      bool link = node != nullptr && node->kind == EntryKind::symbolic_link;
      std::string name = node == nullptr ? "" : node->name();
      const SampleNode* source = node;
      if (node != nullptr && node->kind == EntryKind::hard_link)
        source = &*std::find_if(tree_.begin(), tree_.end(),
                                [&](const SampleNode& one) { return one.path == node->target; });
      Bytes content = source == nullptr || folder ? Bytes() : link ? reparse(*source) : source->data;
      Bytes hash = content.empty() ? Bytes(20) : digest("SHA1", content);
      bool streamed = node != nullptr && node->path == options_.streamed;
      std::uint64_t group = 0;
      if (source != nullptr && !folder && !link) {
        bool linked = std::any_of(tree_.begin(), tree_.end(), [&](const SampleNode& one) {
          return one.kind == EntryKind::hard_link && one.target == source->path;
        });
        if (linked) group = static_cast<std::uint64_t>(source - tree_.data() + 1);
      }
      std::uint64_t time = 116444736000000000 + std::uint64_t{1772373908} * 10'000'000;
      own.u64(0).u32((folder ? 0x10 : 0x20) | (link ? 0x400 : 0)).u32(0xFFFFFFFF).u64(below).u64(0).u64(0);
      own.u64(time).u64(time).u64(time).bytes(streamed ? Bytes(20) : hash).u32(0);
      own.u64(link ? 0xA000000C : group)
          .u16(streamed ? 2 : 0)
          .u16(0)
          .u16(name.size() * 2)
          .bytes(wide(name))
          .u16(0);
      Bytes bytes = own.align(8).take();
      Canvas canvas(std::move(bytes));
      canvas.u64(0, canvas.size());
      ByteWriter all;
      all.bytes(canvas.take());
      if (streamed) {
        auto stream = [&](std::string_view stream_name, const Bytes& stream_hash) {
          ByteWriter row;
          row.u64(0)
              .u64(0)
              .bytes(stream_hash)
              .u16(stream_name.size() * 2)
              .bytes(wide(stream_name))
              .u16(0)
              .align(8);
          Canvas whole(row.take());
          whole.u64(0, whole.size());
          all.bytes(whole.take());
        };
        stream("", hash);
        stream("notes", digest("SHA1", to_bytes("read me twice")));
      }
      return all.take();
    };
    std::size_t root = out.size();
    out.put(root, node_bytes(nullptr, 0));
    out.put(out.size(), Bytes(8));
    auto folder = [&](auto& self, const std::string& path) -> std::uint64_t {
      std::size_t at = out.size();
      std::vector<std::pair<std::size_t, std::string>> inner;
      for (std::size_t i : children_of(tree_, path)) {
        if (tree_[i].kind == EntryKind::folder) inner.emplace_back(out.size(), tree_[i].path);
        out.put(out.size(), node_bytes(&tree_[i], 0));
      }
      out.put(out.size(), Bytes(8));
      for (const auto& [where, name] : inner) out.u64(where + 16, self(self, name));
      return at;
    };
    out.u64(root + 16, folder(folder, ""));
    return out.take();
  }

  Bytes finish(std::size_t index) {
    Part& part = parts_[index];
    std::size_t lookup_at = part.bytes.size(), lookup_size = part.lookup.size();
    part.bytes.bytes(part.lookup.view());
    std::size_t xml_at = part.bytes.size();
    Bytes xml = ByteWriter()
                    .u16(0xFEFF)
                    .bytes(wide("<WIM><IMAGE INDEX=\"1\"><NAME>Kiosk</NAME></IMAGE></WIM>"))
                    .take();
    part.bytes.bytes(xml);
    Canvas out(part.bytes.take());
    out.text(0, std::string_view("MSWIM\0\0\0", 8));
    out.u32(8, 208);
    out.u32(12, options_.solid ? 0xE00 : 0x10D00);
    std::uint32_t packing = options_.packing == WimOptions::Packing::lzx      ? 0x40002u
                            : options_.packing == WimOptions::Packing::xpress ? 0x20002u
                                                                              : 0u;
    out.u32(16, packing | (parts_.size() > 1 ? 8 : 0));
    out.u32(20, options_.packing == WimOptions::Packing::none ? 0 : kChunk);
    out.text(24, "saltmarsh-point!");
    out.u16(40, index + 1);
    out.u16(42, parts_.size());
    out.u32(44, index == 0 ? options_.images : 0);
    auto place = [&](std::size_t at, std::uint64_t size, std::uint64_t offset) {
      out.u64(at, size);
      out.u64(at + 8, offset);
      out.u64(at + 16, size);
    };
    place(48, lookup_size, lookup_at);
    place(72, xml.size(), xml_at);
    return out.take();
  }

  const SampleTree& tree_;
  const WimOptions& options_;
  std::vector<Part> parts_;
  std::map<Bytes, bool> seen_;
  std::vector<std::pair<Bytes, Bytes>> solid_;
  std::size_t turn_ = 0;
};

}  // namespace

std::vector<Bytes> make_wim(const SampleTree& tree, const WimOptions& options) {
  return WimWriter(tree, options).make();
}

// ---- Debian packages, chunked xz

Bytes make_deb(const SampleTree& tree, const std::string& postinst) {
  TarBuilder data, control;
  std::string sums;
  for (const SampleNode& node : tree) {
    if (node.kind == EntryKind::folder) data.folder("./" + node.path);
    if (node.kind == EntryKind::symbolic_link) data.symbolic("./" + node.path, node.target);
    if (node.kind != EntryKind::file) continue;
    data.add({.name = "./" + node.path, .data = node.data, .mode = node.permissions()});
    sums += to_hex(digest("MD5", node.data)) + "  " + node.path + "\n";
  }
  control.file("./control",
               "Package: chart-display\nVersion: 2.1.0\nArchitecture: all\nMaintainer: Saltmarsh Point\n"
               "Depends: libtide (>= 2), fonts-dial\nDescription: shows the tide chart\n in large figures\n");
  control.file("./md5sums", sums);
  if (!postinst.empty()) control.add({.name = "./postinst", .data = to_bytes(postinst), .mode = 0755});
  ByteWriter out;
  out.text("!<arch>\n");
  auto member = [&](const std::string& name, const Bytes& bytes) {
    out.text(
        fmt::format("{:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", name, 1772373908, 0, 0, "100644", bytes.size()));
    out.bytes(bytes).align(2);
  };
  member("debian-binary", to_bytes("2.0\n"));
  member("control.tar.gz", encode("gzip", control.build()));
  member("data.tar.xz", encode("xz", data.build()));
  return out.take();
}

Bytes make_chunked_xz(ByteView plain, std::size_t chunk) {
  ByteWriter out;
  out.text("pbzx").u64be(chunk);
  for (std::size_t at = 0; at < plain.size(); at += chunk) {
    ByteView part = plain.subspan(at, std::min(chunk, plain.size() - at));
    Bytes packed = encode("xz", part);
    out.u64be(part.size());
    if (packed.size() < part.size()) {
      out.u64be(packed.size()).bytes(packed);
    } else {
      out.u64be(part.size()).bytes(part);
    }
  }
  return out.take();
}

}  // namespace operculum::test
