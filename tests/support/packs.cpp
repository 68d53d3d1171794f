#include "support/packs.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "codec/codec.h"
#include "support/pack_tools.h"

namespace operculum::test {
namespace {

constexpr std::uint32_t kWritten = 1772373908;  // 2026-03-01 14:05:08 UTC

/// A number in either order.
void number(ByteWriter& out, std::uint64_t value, int bytes, bool big) {
  for (int i = 0; i < bytes; ++i) out.u8(value >> (8 * (big ? bytes - 1 - i : i)));
}

void name_field(ByteWriter& out, std::string name, std::size_t size, char fill = '\0') {
  name.resize(size, fill);
  out.text(name);
}

std::string creature(const std::string& name) {
  std::string text = fmt::format("The {} of the tide pool.\n", name);
  for (int i = 0; i < 12; ++i) text += fmt::format("{} {} sits {} hands below the water.\n", i, name, i % 5);
  return text;
}

void vlq(ByteWriter& out, std::uint64_t value) {
  Bytes bytes = {static_cast<Byte>(value & 0x7f)};
  while ((value >>= 7) != 0) bytes.push_back(static_cast<Byte>(0x80 | (value & 0x7f)));
  std::reverse(bytes.begin(), bytes.end());
  out.bytes(bytes);
}

void leb128(ByteWriter& out, std::uint64_t value) {
  for (; value >= 0x80; value >>= 7) out.u8(0x80 | (value & 0x7f));
  out.u8(value);
}

std::uint32_t byte_sum(std::string_view text) {
  std::uint32_t sum = 0;
  for (char c : text) sum += static_cast<unsigned char>(c);
  return sum;
}

}  // namespace

Pack shoal_pack() {
  Pack pack{.layout = "shoal", .name = "tidepool.shoal"};
  pack.contents = {{"textures/crab.txt", creature("crab")},
                   {"textures/limpet.txt", creature("limpet")},
                   {"sounds/surf.raw", "\x01\x02\x03\x04"},
                   {"credits.txt", "made for the hall of Saltmarsh Point\n"}};
  ByteWriter data, table;
  constexpr std::size_t kHeader = 40;
  pack.header = kHeader;
  for (const auto& [path, text] : pack.contents) {
    Bytes packed = encode("deflate", as_bytes(text));
    if (packed.size() >= text.size()) packed = to_bytes(text);
    data.zeros((16 - (kHeader + data.size()) % 16) % 16);
    name_field(table, path, 24);
    table.u32((kHeader + data.size()) / 16).u32(packed.size()).u32(text.size()).u32(crc32(0, as_bytes(text)));
    data.bytes(packed);
  }
  ByteWriter out;
  out.text("SHOAL\x1a").u16(2).u32(pack.contents.size()).u64(kHeader + data.size());
  name_field(out, "tide-pool", 16);
  out.zeros(kHeader - out.size()).bytes(data.view()).bytes(table.view());
  pack.bytes = out.take();
  return pack;
}

namespace {

Bytes chunk(std::string_view tag, const Bytes& payload) {
  ByteWriter out;
  out.text(tag);
  number(out, payload.size(), 4, true);
  out.bytes(payload).align(2);
  return out.take();
}

Bytes kelp_data(int packing, const std::string& text) {
  ByteWriter out;
  out.u8(static_cast<std::uint64_t>(packing));
  number(out, text.size(), 4, true);
  out.bytes(packing == 0   ? to_bytes(text)
            : packing == 1 ? pack_packbits(as_bytes(text))
            : packing == 2 ? pack_marked(as_bytes(text), 0xfe)
                           : encode("zlib", as_bytes(text)));
  return chunk("DATA", out.take());
}

Bytes group(const std::string& name, std::initializer_list<Bytes> parts) {
  ByteWriter out;
  if (!name.empty()) out.bytes(chunk("NAME", to_bytes(name)));
  for (const Bytes& part : parts) out.bytes(part);
  return chunk("GRUP", out.take());
}

}  // namespace

Pack kelp_pack() {
  Pack pack{.layout = "kelp", .name = "kelp-forest.kelp"};
  std::string sand(300, 's'), marked = "a\xfe" + std::string(40, 'b') +
                                       "\xfe\xfe"
                                       "c";
  pack.contents = {{"forest/floor/sand.map", sand},
                   {"forest/floor/rocks.map", marked},
                   {"forest/light.txt", creature("ray of light")},
                   {"forest/plain", "plain"}};
  Bytes floor =
      group("floor", {group("sand.map", {kelp_data(1, sand)}), group("rocks.map", {kelp_data(2, marked)})});
  Bytes forest = group("forest", {floor, chunk("NOTE", to_bytes("odd")),
                                  group("light.txt", {kelp_data(3, creature("ray of light"))}),
                                  group("plain", {kelp_data(0, "plain")})});
  ByteWriter out;
  out.text("KELP");
  number(out, forest.size(), 4, true);
  out.bytes(forest);
  pack.bytes = out.take();
  pack.header = 40;
  pack.checked = false;
  return pack;
}

Pack gauge_pack() {
  Pack pack{.layout = "gauge", .name = "tide-gauge.gauge"};
  pack.key = "high water mark!";
  Bytes session = to_bytes("sixteen bytes ok");
  pack.contents = {{"boot.bin", std::string("\x7f"
                                            "boot\0\1\2",
                                            8)},
                   {"tables/tides.csv", "hour,mm\n0,120\n6,4100\n"},
                   {"settings", creature("gauge")}};
  ByteWriter stub, body, table;
  stub.text("LOADER").zeros(250);
  std::uint32_t id = 7;
  for (const auto& [path, text] : pack.contents) {
    ByteWriter iv;
    iv.u32(id).zeros(12);
    name_field(table, path, 16);
    table.u32(id).u64(body.size()).u32(text.size()).bytes(digest("SHA256", as_bytes(text)));
    body.bytes(encrypt_aes_cbc(to_bytes(text), session, iv.view()));
    ++id;
  }
  ByteWriter out;
  out.bytes(stub.view()).bytes(body.view()).bytes(table.view());
  out.u64(body.size()).u32(pack.contents.size()).u64(stub.size());
  out.bytes(encrypt_aes_ecb(session, as_bytes(pack.key))).u32(crc32(0, session)).text("GAUGEEND");
  pack.bytes = out.take();
  return pack;
}

Pack tern_pack() {
  Pack pack{.layout = "tern", .name = "voices.tern"};
  constexpr std::uint32_t kSeed = 1987;
  struct Voice {
    std::string stored_name, path, text;
    bool packed, hidden;
  };
  std::vector<Voice> voices = {{"calls/arctic.wav", "calls/Arctic.wav", creature("arctic tern"), true, true},
                               {"notes.txt", "notes.txt", "seen from the hide at low water\n", false, false},
                               {"calls/lost.txt", "", creature("lost call"), true, false}};
  voices[2].path = fmt::format("unknown/{:08x}.txt", fnv1a_32("calls/lost.txt"));
  ByteWriter data, table;
  std::uint64_t at = 12 + voices.size() * 12;
  for (std::size_t i = 0; i < voices.size(); ++i) {
    const Voice& voice = voices[i];
    pack.contents[voice.path] = voice.text;
    Bytes stored = voice.packed ? pack_lzss_ring(as_bytes(voice.text)) : to_bytes(voice.text);
    if (voice.hidden) stored = mix_lcg(std::move(stored), kSeed + static_cast<std::uint32_t>(i));
    table.u32(fnv1a_32(voice.stored_name)).u32((at + data.size()) ^ 0x5a5a5a5a);
    table.u32((voice.packed ? 1 : 0) | (voice.hidden ? 2 : 0) | voice.text.size() << 2);
    data.bytes(stored);
  }
  ByteWriter out;
  out.text("TERN").u32(voices.size()).u32(kSeed).bytes(table.view()).bytes(data.view());
  pack.bytes = out.take();
  pack.header = 48;
  pack.checked = false;
  return pack;
}

Pack mussel_pack(bool big) {
  Pack pack{.layout = "mussel", .name = "survey.bed"};
  pack.contents = {{"north/count.txt", creature("mussel")},
                   {"south/count.txt", "none this year\n"},
                   {"south/map.txt", creature("map")},
                   {"empty.txt", ""}};
  constexpr std::uint64_t kChunk = 300;
  Bytes all;
  ByteWriter table;
  for (const auto& [path, text] : pack.contents) {
    std::string stored = path;
    std::replace(stored.begin(), stored.end(), '/', '\\');
    table.u8(stored.size()).text(stored);
    number(table, all.size(), 8, big);
    number(table, text.size(), 4, big);
    number(table, adler32(as_bytes(text)), 4, big);
    all.insert(all.end(), text.begin(), text.end());
  }
  std::uint64_t files = (all.size() + kChunk - 1) / kChunk;
  ByteWriter out;
  out.text("MUSSEL").text(big ? "MM" : "II");
  number(out, files, 2, big);
  number(out, kChunk, 4, big);
  number(out, pack.contents.size(), 2, big);
  pack.header = out.size();
  out.bytes(table.view());
  pack.bytes = out.take();
  for (std::uint64_t i = 0; i < files; ++i) {
    auto begin = all.begin() + static_cast<std::ptrdiff_t>(i * kChunk);
    auto end =
        all.begin() + static_cast<std::ptrdiff_t>(std::min<std::uint64_t>(all.size(), (i + 1) * kChunk));
    pack.beside[fmt::format("survey.{:03}", i)] = Bytes(begin, end);
  }
  return pack;
}

namespace {

/// Lays the sectors of a reef disc.
class ReefDisc {
 public:
  static constexpr std::size_t kSector = 512, kBlock = 512;
  ReefDisc() { out_.resize(2 * kSector); }

  struct Node {
    std::string name, text;
    bool folder = false, packed = false;
    std::vector<Node> inside;
  };

  /// Writes the nodes of a folder, sorted by name, as a balanced binary tree; returns its sector.
  std::uint32_t folder(const std::vector<Node>& nodes) {
    if (nodes.empty()) return 0;
    std::vector<std::uint32_t> places, sectors;
    for (const Node& node : nodes) sectors.push_back(node.folder ? folder(node.inside) : data(node));
    std::vector<std::size_t> order;
    std::vector<std::pair<int, int>> links(nodes.size(), {-1, -1});
    balance(0, static_cast<int>(nodes.size()), order, links);
    std::vector<std::uint32_t> offset(nodes.size());
    std::uint32_t at = 0;
    for (std::size_t i : order) {
      offset[i] = at;
      at += static_cast<std::uint32_t>((22 + nodes[i].name.size() + 3) / 4 * 4);
    }
    ByteWriter table;
    for (std::size_t i : order) {
      const Node& node = nodes[i];
      auto link = [&](int to) { return to < 0 ? 0 : offset[static_cast<std::size_t>(to)] / 4; };
      table.u16(link(links[i].first)).u16(link(links[i].second)).u32(sectors[i]).u32(node.text.size());
      table.u8((node.folder ? 1 : 0) | (node.packed ? 2 : 0))
          .u32(kWritten)
          .u32(crc32(0, as_bytes(node.text)));
      table.u8(node.name.size()).text(node.name).align(4);
    }
    return append(table.view());
  }

  Bytes finish(std::uint32_t root) {
    ByteWriter super;
    super.text("REEFDISC").u32(root).u32(kBlock);
    std::copy(super.view().begin(), super.view().end(), out_.begin() + kSector);
    return std::move(out_);
  }

 private:
  static int balance(int from, int to, std::vector<std::size_t>& order,
                     std::vector<std::pair<int, int>>& links) {
    if (from >= to) return -1;
    int middle = (from + to) / 2;
    order.push_back(static_cast<std::size_t>(middle));
    int left = balance(from, middle, order, links), right = balance(middle + 1, to, order, links);
    links[static_cast<std::size_t>(middle)] = {left, right};
    return middle;
  }

  std::uint32_t data(const Node& node) {
    if (!node.packed) return append(to_bytes(node.text));
    ByteWriter sizes, blocks;
    for (std::size_t at = 0; at < node.text.size(); at += kBlock) {
      std::string block = node.text.substr(at, kBlock);
      Bytes packed = encode("zlib", as_bytes(block));
      if (packed.size() >= block.size()) packed = to_bytes(block);
      sizes.u32(packed.size());
      blocks.bytes(packed);
    }
    return append(sizes.bytes(blocks.view()).view());
  }

  std::uint32_t append(const Bytes& bytes) {
    auto sector = static_cast<std::uint32_t>(out_.size() / kSector);
    out_.insert(out_.end(), bytes.begin(), bytes.end());
    out_.resize((out_.size() + kSector - 1) / kSector * kSector);
    return sector;
  }

  Bytes out_;
};

}  // namespace

Pack reef_pack() {
  Pack pack{.layout = "reef", .name = "film-corner.reef"};
  std::string noise;
  for (std::uint32_t i = 0, state = 5; i < 700; ++i)
    noise += static_cast<char>((state = state * 1664525 + 1013904223) >> 24);
  std::string long_text;
  for (int i = 0; i < 6; ++i) long_text += creature("starfish");
  pack.contents = {{"a.txt", "alpha"},
                   {"films/crab.raw", long_text},
                   {"films/noise.raw", noise + long_text},
                   {"films/old/first.txt", "1924"},
                   {"m.txt", "mu"},
                   {"z.txt", creature("zoea")}};
  using Node = ReefDisc::Node;
  ReefDisc disc;
  std::uint32_t root = disc.folder(
      {Node{"a.txt", "alpha"}, Node{"empty", "", true},
       Node{"films",
            "",
            true,
            false,
            {Node{"crab.raw", long_text, false, true}, Node{"noise.raw", noise + long_text, false, true},
             Node{"old", "", true, false, {Node{"first.txt", "1924"}}}}},
       Node{"m.txt", "mu"}, Node{"z.txt", creature("zoea"), false, true}});
  pack.bytes = disc.finish(root);
  return pack;
}

Pack harbour_pack() {
  Pack pack{.layout = "harbour", .name = "chart-setup.harbour"};
  struct Item {
    int folder;
    std::string name, text;
    unsigned mode;
  };
  const std::string folders[] = {"program", "charts\\inner"};
  std::vector<Item> items = {{0, "chart.exe", "MZ" + creature("chart display"), 0755},
                             {0, "lesen.txt", "depths in metres\n", 0644},
                             {1, "harbour.txt", creature("harbour"), 0644}};
  Bytes solid;
  ByteWriter table;
  for (const Item& item : items) {
    std::string folder = folders[item.folder];
    std::replace(folder.begin(), folder.end(), '\\', '/');
    pack.contents[folder + "/" + item.name] = item.text;
    table.u16(static_cast<std::uint64_t>(item.folder))
        .u16(item.mode)
        .u64((kWritten + 11644473600u) * 10'000'000);
    table.u64(solid.size()).u64(item.text.size()).bytes(digest("MD5", as_bytes(item.text)));
    table.u16(item.name.size() * 2);
    for (char c : item.name) table.u16(static_cast<unsigned char>(c));
    solid.insert(solid.end(), item.text.begin(), item.text.end());
  }
  ByteWriter index;
  std::string title = "Chart display";
  index.u16(title.size()).text(title).u16(2).u32(items.size());
  for (const std::string& folder : folders) index.u16(folder.size()).text(folder);
  index.bytes(table.view());
  Bytes packed = encode("zlib", index.view());
  ByteWriter out;
  out.text(std::string_view("HARBOUR\0", 8))
      .u16(2)
      .u32(packed.size())
      .u32(index.size())
      .u32(crc32(0, index.view()))
      .bytes(packed);
  pack.bytes = out.take();
  pack.header = 22;
  Bytes stream = encode("lzma-alone", solid);
  auto half = stream.begin() + static_cast<std::ptrdiff_t>(stream.size() / 2);
  pack.beside["chart-setup.d1"] = Bytes(stream.begin(), half);
  pack.beside["chart-setup.d2"] = Bytes(half, stream.end());
  return pack;
}

Pack ledger_pack() {
  Pack pack{.layout = "ledger", .name = "hall.ledger"};
  pack.contents = {{"crab.txt", creature("crab")},
                   {"\u00e9toile de mer.txt", "a starfish\n"},
                   {"last.txt", creature("last")}};
  std::size_t count = pack.contents.size();
  std::string head = fmt::format("SALTMARSH LEDGER 1\n{:6} 1987\n", count);
  std::size_t at = head.size();
  auto name_of = [](const std::string& path) {  // in CP437
    std::string out = path;
    if (std::size_t found = out.find("\u00e9"); found != std::string::npos) out.replace(found, 2, "\x82");
    return out;
  };
  for (const auto& [path, text] : pack.contents)
    at += fmt::format("644 {:08x} {} {}\n", 0, kWritten, name_of(path)).size();
  std::string table;
  Bytes data;
  for (const auto& [path, text] : pack.contents) {
    table += fmt::format("644 {:08x} {} {}\n", at + data.size(), kWritten, name_of(path));
    Bytes hidden = mix_xor(to_bytes(text), "tide", at + data.size());
    data.insert(data.end(), hidden.begin(), hidden.end());
  }
  pack.bytes = ByteWriter().text(head).text(table).bytes(data).take();
  pack.header = at;
  pack.checked = false;
  return pack;
}

Pack eel_pack(bool big) {
  Pack pack{.layout = "eel", .name = "levels.eel"};
  pack.contents = {
      {"caves/deep/one.map", creature("eel")}, {"caves/two.map", "short"}, {"three.map", creature("conger")}};
  struct Node {
    std::string name;
    bool folder;
    std::uint32_t last;
    std::string path;
    bool packed = false;
  };
  std::vector<Node> nodes = {{"", true, 6, ""},
                             {"caves", true, 5, ""},
                             {"deep", true, 4, ""},
                             {"one.map", false, 0, "caves/deep/one.map", true},
                             {"two.map", false, 0, "caves/two.map"},
                             {"three.map", false, 0, "three.map", true}};
  constexpr std::size_t kHead = 16;
  std::size_t names_at = kHead + nodes.size() * 16;
  ByteWriter names, table, data;
  for (const Node& node : nodes) names.zeros(0).text(node.name).u8(0);
  std::size_t data_at = names_at + names.size(), name = 0;
  for (const Node& node : nodes) {
    const std::string& text = pack.contents[node.path];
    std::size_t begin = data_at + data.size();
    if (!node.folder) {
      if (node.packed) {
        leb128(data, text.size());
        data.bytes(encode("zstd", as_bytes(text)));
      } else {
        data.text(text);
      }
    }
    number(table, name | (node.folder ? 1u << 24 : 0) | (node.packed ? 1u << 25 : 0), 4, big);
    number(table, node.last, 4, big);
    number(table, begin, 4, big);
    number(table, data_at + data.size() - begin, 4, big);
    name += node.name.size() + 1;
  }
  pack.contents.erase("");
  ByteWriter out;
  out.text("EELS").u8(big ? 1 : 2).u8(big ? 2 : 1);
  number(out, nodes.size(), 2, big);
  number(out, kHead, 4, big);
  number(out, names_at, 4, big);
  out.bytes(table.view()).bytes(names.view()).bytes(data.view());
  pack.bytes = out.take();
  pack.header = kHead;
  pack.checked = false;
  return pack;
}

Pack drift_pack(int version) {
  Pack pack{.layout = "drift", .name = "letters.drift"};
  pack.contents = {{"first.txt", creature("letter")},
                   {"heron.drawing", std::string(200, 'h')},
                   {"second.txt", "thank you\n"}};
  ByteWriter out;
  out.text("DRIFT").u8(static_cast<std::uint64_t>(version));
  pack.header = out.size();
  for (const auto& [path, text] : pack.contents) {
    bool drawing = path.ends_with(".drawing");
    Bytes stored = to_bytes(text);
    for (Byte& b : stored) {
      if (drawing) b = static_cast<Byte>(b >> 3 | b << 5);
      b = static_cast<Byte>(b + 7);
    }
    out.u8(drawing ? 2 : 1);
    vlq(out, path.size());
    out.text(path);
    if (version >= 2) number(out, kWritten - 946684800, 4, true);
    vlq(out, stored.size());
    number(out, crc16_ccitt(as_bytes(text)), 2, true);
    out.bytes(stored);
  }
  pack.bytes = out.u8(0).take();
  return pack;
}

Pack cockle_pack() {
  Pack pack{.layout = "cockle", .name = "drawings.cockle"};
  pack.contents = {{"top.svg", creature("cockle")},
                   {"boats/dinghy.svg", creature("dinghy")},
                   {"boats/old/barge.svg", "a barge"},
                   {"boats/old/lugger.svg", creature("lugger")}};
  const std::pair<int, std::string> folders[] = {{0, ""}, {0, "boats"}, {1, "old"}};
  auto folder_of = [](const std::string& path) {
    return path.starts_with("boats/old/") ? 2 : path.starts_with("boats/") ? 1 : 0;
  };
  constexpr std::size_t kBuckets = 2, kHead = 16;
  std::uint32_t heads[kBuckets] = {0, 0};
  ByteWriter body;
  std::size_t begin = kHead + kBuckets * 4;
  std::size_t bucket = 0;
  for (const auto& [path, text] : pack.contents) {
    Bytes packed = pack_lzss_back(as_bytes(text));
    bool smaller = packed.size() < text.size();
    if (!smaller) packed = to_bytes(text);
    std::string name = path.substr(path.rfind('/') + 1);
    std::size_t at = begin + body.size();
    std::size_t data_at = at + 22 + name.size() + 1;
    body.u32(heads[bucket])
        .u16(static_cast<std::uint64_t>(folder_of(path)))
        .u16(smaller ? 1 : 0)
        .u32(data_at)
        .u32(packed.size())
        .u32(text.size());
    body.u16(byte_sum(text)).text(name).u8(0).bytes(packed);
    heads[bucket] = static_cast<std::uint32_t>(at);
    bucket = (bucket + 1) % kBuckets;
  }
  ByteWriter out;
  out.text("COCKLE").u16(kBuckets).u32(std::size(folders)).u32(begin + body.size());
  for (std::uint32_t head : heads) out.u32(head);
  out.bytes(body.view());
  for (const auto& [parent, name] : folders) {
    out.u16(static_cast<std::uint64_t>(parent));
    name_field(out, name, 14, ' ');
  }
  pack.bytes = out.take();
  pack.header = kHead + kBuckets * 4;
  return pack;
}

Bytes make_swell(const std::string& version, const std::vector<std::pair<std::string, Bytes>>& parts) {
  constexpr std::size_t kHeader = 52, kRow = 36, kAlignment = 64;
  ByteWriter table, data;
  std::size_t begin = kHeader + kRow * parts.size();
  for (const auto& [name, bytes] : parts) {
    data.zeros((kAlignment - (begin + data.size()) % kAlignment) % kAlignment);
    name_field(table, name, 24);
    table.u32(begin + data.size()).u32(bytes.size()).u32(crc32(0, bytes));
    data.bytes(bytes);
  }
  ByteWriter out;
  out.text("SWELL\x02").u16(parts.size());
  name_field(out, version, 16);
  name_field(out, "tide gauge 2", 24);
  out.u32(crc32(0, table.view())).bytes(table.view()).bytes(data.view());
  return out.take();
}

Pack swell_pack() {
  Pack pack{.layout = "swell", .name = "gauge-notes.swell", .header = 52};
  pack.contents = {{"notes.txt", "mind the float\n"}, {"levels.csv", "step,mm\n0,0\n1,12\n"}};
  std::vector<std::pair<std::string, Bytes>> parts;
  for (const auto& [path, text] : pack.contents) parts.emplace_back(path, to_bytes(text));
  pack.bytes = make_swell("2.4.0", parts);
  return pack;
}

const Pack& pack_number(std::size_t number) {
  static Pack (*const makers[kPacks])() = {shoal_pack,
                                           kelp_pack,
                                           gauge_pack,
                                           tern_pack,
                                           [] { return mussel_pack(false); },
                                           [] { return mussel_pack(true); },
                                           reef_pack,
                                           harbour_pack,
                                           ledger_pack,
                                           [] { return eel_pack(false); },
                                           [] { return eel_pack(true); },
                                           [] { return drift_pack(1); },
                                           [] { return drift_pack(2); },
                                           cockle_pack,
                                           swell_pack};
  static std::map<std::size_t, Pack> made;
  auto found = made.find(number);
  return found != made.end() ? found->second : made.emplace(number, makers[number]()).first->second;
}

}  // namespace operculum::test
