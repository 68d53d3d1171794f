#include "support/disk_writer.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "support/block_packer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kAlign = 64 << 10;

std::size_t up(std::size_t value, std::size_t to) {
  return (value + to - 1) / to * to;
}

bool zeros(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](Byte b) { return b == 0; });
}

void mbr_row(Canvas& disk, std::size_t at, unsigned type, std::size_t start, std::size_t count) {
  disk[at + 4] = static_cast<Byte>(type);
  disk.u32(at + 8, start);
  disk.u32(at + 12, count);
}

}  // namespace

Bytes guid(std::string_view text) {
  Bytes raw;
  std::string digits;
  for (char c : text) {
    if (c != '-') digits += c;
  }
  for (std::size_t i = 0; i < 32; i += 2)
    raw.push_back(static_cast<Byte>(std::stoi(digits.substr(i, 2), nullptr, 16)));
  std::reverse(raw.begin(), raw.begin() + 4);
  std::reverse(raw.begin() + 4, raw.begin() + 6);
  std::reverse(raw.begin() + 6, raw.begin() + 8);
  return raw;
}

Bytes make_gpt(const std::vector<DiskPart>& parts, std::size_t sector) {
  std::size_t at = 1 << 20;
  Bytes entries(128 * 128);
  std::vector<std::size_t> places;
  Canvas table(entries);
  for (std::size_t i = 0; i < parts.size(); ++i) {
    places.push_back(at);
    std::size_t sectors = up(parts[i].data.size(), sector) / sector;
    table.put(i * 128, guid(parts[i].type));
    table.put(i * 128 + 16, guid("5a17e4a1-0000-4000-8000-00000000000" + std::to_string(i)));
    table.u64(i * 128 + 32, at / sector);
    table.u64(i * 128 + 40, at / sector + sectors - 1);
    for (std::size_t k = 0; k < parts[i].name.size(); ++k)
      table[i * 128 + 56 + 2 * k] = static_cast<Byte>(parts[i].name[k]);
    at = up(at + sectors * sector, kAlign) + kAlign;
  }
  entries = table.take();
  Canvas disk(at + kAlign);
  for (std::size_t i = 0; i < parts.size(); ++i) disk.put(places[i], parts[i].data);
  std::size_t last = disk.size() / sector - 1, table_sectors = entries.size() / sector;
  mbr_row(disk, 446, 0xEE, 1, last);
  disk.u16(510, 0xAA55);
  auto header = [&](std::size_t own, std::size_t other, std::size_t table_at) {
    Canvas h(92);
    h.text(0, "EFI PART");
    h.u32(8, 0x10000);
    h.u32(12, 92);
    h.u64(24, own);
    h.u64(32, other);
    h.u64(40, 2 + table_sectors);
    h.u64(48, last - table_sectors - 1);
    h.put(56, guid("5a17e4a1-b0a7-4000-8000-5a17e4a1b0a7"));
    h.u64(72, table_at);
    h.u32(80, 128);
    h.u32(84, 128);
    h.u32(88, crc32(0, entries));
    h.u32(16, crc32(0, h.part(0, 92)));
    disk.put(own * sector, h.take());
    disk.put(table_at * sector, entries);
  };
  header(1, last, 2);
  header(last, 1, last - table_sectors);
  return disk.take();
}

Bytes make_mbr(const std::vector<DiskPart>& parts) {
  std::size_t at = kAlign;
  std::vector<std::size_t> places;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    if (i >= 3) at += kAlign;  // room for the record before it
    places.push_back(at);
    at = up(at + parts[i].data.size(), kAlign);
  }
  Canvas disk(at + kAlign);
  for (std::size_t i = 0; i < parts.size(); ++i) {
    disk.put(places[i], parts[i].data);
    std::size_t count = up(parts[i].data.size(), 512) / 512;
    if (i < 3) {
      mbr_row(disk, 446 + i * 16, parts[i].mbr_type, places[i] / 512, count);
      continue;
    }
    std::size_t record = places[i] - kAlign, first = places[3] - kAlign;
    mbr_row(disk, record + 446, parts[i].mbr_type, kAlign / 512, count);
    if (i + 1 < parts.size()) mbr_row(disk, record + 462, 5, (places[i + 1] - kAlign - first) / 512, 1);
    disk.u16(record + 510, 0xAA55);
    if (i == 3) mbr_row(disk, 446 + 48, 5, first / 512, (at - first) / 512);
  }
  disk.u16(510, 0xAA55);
  return disk.take();
}

Bytes make_apple_map(const std::vector<DiskPart>& parts) {
  std::size_t at = kAlign;
  Canvas disk(512);
  disk.text(0, "ER");
  disk.big(2, 512, 2);
  std::size_t count = parts.size() + 1;
  auto row = [&](std::size_t index, std::size_t start, std::size_t blocks, const std::string& name,
                 const std::string& type) {
    Canvas r(512);
    r.text(0, "PM");
    r.big(4, count, 4);
    r.big(8, start, 4);
    r.big(12, blocks, 4);
    r.text(16, name);
    r.text(48, type);
    disk.put((index + 1) * 512, r.take());
  };
  row(0, 1, 63, "Apple", "Apple_partition_map");
  for (std::size_t i = 0; i < parts.size(); ++i) {
    row(i + 1, at / 512, up(parts[i].data.size(), 512) / 512, parts[i].name, parts[i].type);
    disk.put(at, parts[i].data);
    at = up(at + parts[i].data.size(), kAlign);
  }
  Bytes out = disk.take();
  out.resize(at);
  return out;
}

// ---- wrappers

Bytes make_qcow2(const Bytes& disk, const WrapOptions& options) {
  constexpr std::size_t kBits = 16, kCluster = 1 << kBits, kPerTable = kCluster / 8;
  std::size_t clusters = up(disk.size(), kCluster) / kCluster, tables = up(clusters, kPerTable) / kPerTable;
  Canvas out((2 + tables) * kCluster);
  bool zstd = options.codec == BlockCodec::zstd;
  out.text(0, "QFI\xfb");
  out.big(4, options.version, 4);
  out.big(20, kBits, 4);
  out.big(24, disk.size(), 8);
  out.big(36, tables, 4);
  out.big(40, kCluster, 8);
  std::size_t header = 72;
  if (options.version == 3) {
    header = 112;
    out.big(72, zstd ? 8 : 0, 8);
    out.big(96, 4, 4);
    out.big(100, header, 4);
    out[104] = zstd ? 1 : 0;
  }
  if (!options.parent.empty()) {
    out.big(8, header + 8, 8);
    out.big(16, options.parent.size(), 4);
    out.text(header + 8, options.parent);
  }
  for (std::size_t i = 0; i < tables; ++i)
    out.big(kCluster + i * 8, ((2 + i) * kCluster) | (std::uint64_t{1} << 63), 8);
  std::size_t packed_at = 0;  // where the next packed cluster begins
  for (std::size_t i = 0; i < clusters; ++i) {
    Bytes plain(kCluster);
    std::size_t count = std::min(kCluster, disk.size() - i * kCluster);
    std::copy_n(disk.begin() + static_cast<std::ptrdiff_t>(i * kCluster), count, plain.begin());
    std::size_t entry = 2 * kCluster + i * 8;
    if (!options.parent.empty()) {
      Bytes before(kCluster);
      std::size_t there = options.parent_disk.size() > i * kCluster
                              ? std::min(kCluster, options.parent_disk.size() - i * kCluster)
                              : 0;
      std::copy_n(options.parent_disk.begin() +
                      static_cast<std::ptrdiff_t>(std::min(i * kCluster, options.parent_disk.size())),
                  there, before.begin());
      if (before == plain) continue;
      if (zeros(plain)) {
        out.big(entry, 1, 8);
        continue;
      }
    } else if (zeros(plain)) {
      continue;
    }
    if (options.codec == BlockCodec::stored) {
      std::size_t at = up(out.size(), kCluster);
      out.big(entry, at | (std::uint64_t{1} << 63), 8);
      out.put(at, plain);
      packed_at = 0;
      continue;
    }
    Bytes packed = pack_block(options.codec, plain);
    if (packed_at == 0) packed_at = up(out.size(), 512) + 100;  // they need not begin at a sector
    std::size_t sectors = (packed_at % 512 + packed.size() + 511) / 512 - 1;
    std::uint64_t value =
        packed_at | (static_cast<std::uint64_t>(sectors) << (62 - (kBits - 8))) | (std::uint64_t{1} << 62);
    out.big(entry, value, 8);
    out.put(packed_at, packed);
    packed_at += packed.size();
  }
  if (!options.snapshot.empty()) {
    std::size_t at = up(out.size(), kCluster);
    out.put(at, Bytes(64));
    out.big(60, 1, 4);
    out.big(64, at, 8);
    out.big(at + 12, 1, 2);
    out.big(at + 14, options.snapshot.size(), 2);
    out.big(at + 16, 1772373908, 4);
    out.text(at + 40, "1" + options.snapshot);
  }
  Bytes all = out.take();
  all.resize(up(all.size(), 512));
  return all;
}

namespace {

/// Names the state of a disk's contents.
std::uint32_t id_of(const Bytes& disk) {
  return crc32(0, disk);
}

Bytes vhd_footer(const Bytes& disk, unsigned kind, std::uint64_t header) {
  std::size_t size = disk.size();
  Canvas f(512);
  f.big(68 + 12, id_of(disk), 4);  // the last four bytes of its unique id
  f.text(0, "conectix");
  f.big(8, 2, 4);
  f.big(12, 0x10000, 4);
  f.big(16, header, 8);
  f.big(24, 1772373908 - 946684800, 4);
  f.text(28, "slt ");
  f.big(40, size, 8);
  f.big(48, size, 8);
  f.big(60, kind, 4);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 512; ++i) sum += f[i];
  f.big(64, ~sum, 4);
  return f.take();
}

}  // namespace

Bytes make_vhd_fixed(const Bytes& disk) {
  Bytes out = disk;
  Bytes footer = vhd_footer(disk, 2, ~std::uint64_t{0});
  out.insert(out.end(), footer.begin(), footer.end());
  return out;
}

Bytes make_vhd(const Bytes& disk, const WrapOptions& options) {
  constexpr std::size_t kBlock = 512 << 10, kBitmap = 512;
  bool difference = !options.parent.empty();
  std::size_t blocks = up(disk.size(), kBlock) / kBlock, table = 1536;
  Bytes footer = vhd_footer(disk, difference ? 4 : 3, 512);
  Canvas h(1024);
  h.text(0, "cxsparse");
  h.big(8, ~std::uint64_t{0}, 8);
  h.big(16, table, 8);
  h.big(24, 0x10000, 4);
  h.big(28, blocks, 4);
  h.big(32, kBlock, 4);
  if (difference) h.big(40 + 12, id_of(options.parent_disk), 4);
  for (std::size_t i = 0; i < options.parent.size(); ++i)
    h[64 + 2 * i + 1] = static_cast<Byte>(options.parent[i]);
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i < 1024; ++i) sum += h[i];
  h.big(36, ~sum, 4);
  Canvas out(up(table + blocks * 4, 512));
  out.put(0, footer);
  out.put(512, h.take());
  for (std::size_t i = 0; i < blocks; ++i) {
    out.big(table + i * 4, 0xFFFFFFFF, 4);
    Bytes plain(kBlock), before(kBlock), bitmap(kBitmap);
    std::copy_n(disk.begin() + static_cast<std::ptrdiff_t>(i * kBlock),
                std::min(kBlock, disk.size() - i * kBlock), plain.begin());
    if (difference)
      std::copy_n(options.parent_disk.begin() + static_cast<std::ptrdiff_t>(i * kBlock),
                  std::min(kBlock, options.parent_disk.size() - i * kBlock), before.begin());
    if (plain == before) continue;
    for (std::size_t s = 0; s < kBlock / 512; ++s) {
      bool same = std::equal(plain.begin() + static_cast<std::ptrdiff_t>(s * 512),
                             plain.begin() + static_cast<std::ptrdiff_t>(s * 512 + 512),
                             before.begin() + static_cast<std::ptrdiff_t>(s * 512));
      if (!difference || !same) bitmap[s / 8] |= static_cast<Byte>(0x80 >> (s % 8));
      if (difference && same)
        std::fill_n(plain.begin() + static_cast<std::ptrdiff_t>(s * 512), 512,
                    Byte{0xEE});  // must not be read
    }
    std::size_t at = out.size();
    out.big(table + i * 4, at / 512, 4);
    out.put(at, bitmap);
    out.put(at + kBitmap, plain);
  }
  out.put(out.size(), footer);
  return out.take();
}

Bytes make_vhdx(const Bytes& disk, const WrapOptions& options) {
  constexpr std::size_t kMiB = 1 << 20, kKiB = 1024, kBlock = kMiB,
                        kRatio = (std::size_t{1} << 23) * 512 / kBlock;
  bool difference = !options.parent.empty();
  std::size_t blocks = up(disk.size(), kBlock) / kBlock, chunks = up(blocks, kRatio) / kRatio;
  std::size_t bat = 3 * kMiB, metadata = 2 * kMiB;
  Canvas out(4 * kMiB);
  out.text(0, "vhdxfile");
  auto seal = [&](std::size_t at, std::size_t size) { out.u32(at + 4, ~crc32c(~0U, out.part(at, size))); };
  for (std::size_t i = 0; i < 2; ++i) {
    std::size_t at = (64 + i * 64) * kKiB;
    out.text(at, "head");
    out.u64(at + 8, i + 1);
    out.put(at + 32, guid(fmt::format("{:08x}-0000-4000-8000-000000000000", id_of(disk))));
    out.u16(at + 66, 1);
    out.u32(at + 68, kMiB);
    out.u64(at + 72, kMiB);
    seal(at, 4096);
    std::size_t region = (192 + i * 64) * kKiB;
    out.text(region, "regi");
    out.u32(region + 8, 2);
    out.put(region + 16, guid("2dc27766-f623-4200-9d64-115e9bfd4a08"));
    out.u64(region + 32, bat);
    out.u32(region + 40, kMiB);
    out.u32(region + 44, 1);
    out.put(region + 48, guid("8b7ca206-4790-4b9a-b8fe-575f050f886e"));
    out.u64(region + 64, metadata);
    out.u32(region + 72, kMiB);
    out.u32(region + 76, 1);
    seal(region, 64 * kKiB);
  }
  ByteWriter locator;
  std::string key = "relative_path", id_key = "parent_linkage",
              id = fmt::format("{{{:08X}-0000-4000-8000-000000000000}}", id_of(options.parent_disk));
  auto wide = [](const std::string& text) {
    ByteWriter w;
    for (char c : text) w.u16(static_cast<unsigned char>(c));
    return w.take();
  };
  std::size_t texts = 18 + 2 + 2 * 12;
  locator.zeros(18).u16(2);
  for (const auto& [name, value] : {std::pair(key, options.parent), std::pair(id_key, id)}) {
    locator.u32(texts).u32(texts + name.size() * 2).u16(name.size() * 2).u16(value.size() * 2);
    texts += (name.size() + value.size()) * 2;
  }
  for (const std::string& text : {key, options.parent, id_key, id}) locator.bytes(wide(text));
  struct Item {
    const char* id;
    Bytes value;
  };
  std::vector<Item> items = {
      {"caa16737-fa36-4d43-b3b6-33f0aa44e76b", ByteWriter().u32(kBlock).u32(difference ? 2 : 0).take()},
      {"2fa54224-cd1b-4876-b211-5dbed83bf4b8", ByteWriter().u64(disk.size()).take()},
      {"8141bf1d-a96f-4709-ba47-f233a8faab5f", ByteWriter().u32(512).take()}};
  if (difference) items.push_back({"a8d35f2d-b30b-454d-abf7-d3d84834ab0c", locator.take()});
  out.text(metadata, "metadata");
  out.u16(metadata + 10, items.size());
  std::size_t place = 64 * kKiB;
  for (std::size_t i = 0; i < items.size(); ++i) {
    std::size_t row = metadata + 32 + i * 32;
    out.put(row, guid(items[i].id));
    out.u32(row + 16, place);
    out.u32(row + 20, items[i].value.size());
    out.put(metadata + place, items[i].value);
    place += up(items[i].value.size(), 8);
  }
  std::vector<std::size_t> bitmaps(chunks, 0);
  for (std::size_t i = 0; i < blocks; ++i) {
    Bytes plain(kBlock), before(kBlock);
    std::copy_n(disk.begin() + static_cast<std::ptrdiff_t>(i * kBlock),
                std::min(kBlock, disk.size() - i * kBlock), plain.begin());
    if (difference)
      std::copy_n(options.parent_disk.begin() + static_cast<std::ptrdiff_t>(i * kBlock),
                  std::min(kBlock, options.parent_disk.size() - i * kBlock), before.begin());
    if (plain == before) continue;
    std::size_t chunk = i / kRatio;
    if (difference && bitmaps[chunk] == 0) {
      bitmaps[chunk] = up(out.size(), kMiB);
      out.put(bitmaps[chunk], Bytes(kMiB));
      out.u64(bat + ((chunk + 1) * (kRatio + 1) - 1) * 8, bitmaps[chunk] | 6);
    }
    for (std::size_t s = 0; difference && s < kBlock / 512; ++s) {
      auto begin = plain.begin() + static_cast<std::ptrdiff_t>(s * 512);
      std::size_t bit = (i % kRatio) * (kBlock / 512) + s;
      if (std::equal(begin, begin + 512, before.begin() + static_cast<std::ptrdiff_t>(s * 512))) {
        std::fill_n(begin, 512, Byte{0xEE});
      } else {
        out[bitmaps[chunk] + bit / 8] |= static_cast<Byte>(1U << (bit % 8));
      }
    }
    std::size_t at = up(out.size(), kMiB);
    out.put(at, plain);
    out.u64(bat + (i + i / kRatio) * 8, at | (difference ? 7 : 6));
  }
  return out.take();
}

namespace {

constexpr std::size_t kGrain = 64 << 10, kPerTable = 512;

Canvas vmdk_header(std::size_t size, unsigned version, unsigned flags, std::uint64_t directory,
                   std::size_t overhead) {
  Canvas h(512);
  h.text(0, "KDMV");
  h.u32(4, version);
  h.u32(8, flags);
  h.u64(12, up(size, 512) / 512);
  h.u64(20, kGrain / 512);
  h.u64(28, 1);
  h.u64(36, 4);
  h.u32(44, kPerTable);
  h.u64(56, directory);
  h.u64(64, overhead / 512);
  h.text(73, "\n \r\n");
  return h;
}

std::string vmdk_text(const std::string& kind, const Bytes& disk, const std::string& parent = "",
                      const Bytes& parent_disk = {}) {
  std::uint32_t parent_id = parent.empty() ? 0xffffffff : id_of(parent_disk);
  std::string text =
      fmt::format("# Disk DescriptorFile\nversion=1\nCID={:08x}\nparentCID={:08X}\ncreateType=\"{}\"\n",
                  id_of(disk), parent_id, kind);
  if (!parent.empty()) text += "parentFileNameHint=\"" + parent + "\"\n";
  return text;
}

}  // namespace

Bytes make_vmdk(const Bytes& disk, const WrapOptions& options) {
  std::size_t grains = up(disk.size(), kGrain) / kGrain, tables = up(grains, kPerTable) / kPerTable;
  std::size_t directory = 5 * 512, table = up(directory + tables * 4, 512),
              data = up(table + tables * kPerTable * 4, kGrain);
  Canvas out(data);
  out.put(0, vmdk_header(disk.size(), 1, 1, directory / 512, data).take());
  out.text(512, vmdk_text("monolithicSparse", disk, options.parent, options.parent_disk));
  for (std::size_t i = 0; i < tables; ++i) out.u32(directory + i * 4, table / 512 + i * kPerTable * 4 / 512);
  for (std::size_t i = 0; i < grains; ++i) {
    Bytes plain(kGrain), before(kGrain);
    std::copy_n(disk.begin() + static_cast<std::ptrdiff_t>(i * kGrain),
                std::min(kGrain, disk.size() - i * kGrain), plain.begin());
    if (!options.parent.empty())
      std::copy_n(options.parent_disk.begin() + static_cast<std::ptrdiff_t>(i * kGrain),
                  std::min(kGrain, options.parent_disk.size() - i * kGrain), before.begin());
    if (plain == before) continue;
    out.u32(table + i * 4, out.size() / 512);
    out.put(out.size(), plain);
  }
  return out.take();
}

Bytes make_vmdk_stream(const Bytes& disk) {
  std::size_t grains = up(disk.size(), kGrain) / kGrain, tables = up(grains, kPerTable) / kPerTable;
  Canvas out(kGrain);
  unsigned flags = 1 | (1U << 16) | (1U << 17);
  out.put(0, vmdk_header(disk.size(), 3, flags, ~std::uint64_t{0}, kGrain).take());
  out.text(512, vmdk_text("streamOptimized", disk));
  Canvas table(up(tables * kPerTable * 4, 512));
  for (std::size_t i = 0; i < grains; ++i) {
    ByteView plain = ByteView(disk).subspan(i * kGrain, std::min(kGrain, disk.size() - i * kGrain));
    if (zeros(plain)) continue;
    Bytes packed = pack_block(BlockCodec::zlib, plain);
    std::size_t at = out.size();
    table.u32(i * 4, at / 512);
    Bytes grain = ByteWriter().u64(i * kGrain / 512).u32(packed.size()).bytes(packed).align(512).take();
    out.put(at, grain);
  }
  std::size_t table_at = out.size() + 512;  // behind its marker
  out.put(table_at, table.take());
  std::size_t directory = out.size() + 512;
  Canvas list(up(tables * 4, 512));
  for (std::size_t i = 0; i < tables; ++i) list.u32(i * 4, table_at / 512 + i * kPerTable * 4 / 512);
  out.put(directory, list.take());
  std::size_t footer = out.size() + 512;
  out.put(footer, vmdk_header(disk.size(), 3, flags, directory / 512, kGrain).take());
  out.put(footer + 512, Bytes(512));  // the marker that ends the stream
  return out.take();
}

namespace {

std::string base64(ByteView bytes) {
  static constexpr std::string_view kDigits =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  for (std::size_t i = 0; i < bytes.size(); i += 3) {
    std::uint32_t word = static_cast<std::uint32_t>(bytes[i] << 16);
    if (i + 1 < bytes.size()) word |= static_cast<std::uint32_t>(bytes[i + 1] << 8);
    if (i + 2 < bytes.size()) word |= bytes[i + 2];
    for (int k = 0; k < 4; ++k)
      out += i + static_cast<std::size_t>(k) <= bytes.size() ? kDigits[(word >> (18 - 6 * k)) & 63] : '=';
    if (i % 48 == 45) out += "\n\t\t";
  }
  return out;
}

/// ADC with literals, and copies of runs of one byte.
Bytes pack_adc(ByteView plain) {
  ByteWriter out;
  for (std::size_t at = 0; at < plain.size();) {
    std::size_t run = 1;
    while (at + run < plain.size() && run < 68 && plain[at + run] == plain[at]) ++run;
    if (run >= 5) {  // one byte as it is, then copies from one back
      out.u8(0x80).u8(plain[at]);
      std::size_t length = run - 1;
      if (length <= 18) {
        out.u8((length - 3) << 2).u8(0);
      } else {
        out.u8(0x40 | (length - 4)).u8(0).u8(0);
      }
      at += run;
    } else {
      out.u8(0x80).u8(plain[at++]);
    }
  }
  return out.take();
}

}  // namespace

Bytes make_udif(const Bytes& disk, BlockCodec codec, bool adc) {
  constexpr std::size_t kChunk = 64 << 10;
  std::uint32_t kind = adc                          ? 0x80000004
                       : codec == BlockCodec::zlib  ? 0x80000005
                       : codec == BlockCodec::bzip2 ? 0x80000006
                       : codec == BlockCodec::xz    ? 0x80000008
                                                    : 1;
  ByteWriter data, runs;
  std::size_t count = 0;
  for (std::size_t at = 0; at < disk.size(); at += kChunk, ++count) {
    ByteView plain = ByteView(disk).subspan(at, std::min(kChunk, disk.size() - at));
    if (zeros(plain)) {
      runs.u32be(count % 2 == 0 ? 0 : 2)
          .u32be(0)
          .u64be(at / 512)
          .u64be(plain.size() / 512)
          .u64be(data.size())
          .u64be(0);
      continue;
    }
    Bytes packed = adc ? pack_adc(plain) : pack_block(codec, plain);
    runs.u32be(kind)
        .u32be(0)
        .u64be(at / 512)
        .u64be(plain.size() / 512)
        .u64be(data.size())
        .u64be(packed.size());
    data.bytes(packed);
  }
  runs.u32be(0xFFFFFFFF).u32be(0).u64be(disk.size() / 512).u64be(0).u64be(data.size()).u64be(0);
  ByteWriter table;
  table.text("mish")
      .u32be(1)
      .u64be(0)
      .u64be(disk.size() / 512)
      .u64be(0)
      .u32be(2056)
      .u32be(0)
      .zeros(24)
      .zeros(136)
      .u32be(count + 1)
      .bytes(runs.view());
  std::string list =
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist "
      "version=\"1.0\">\n<dict>\n<key>resource-fork</key>\n<dict>\n<key>blkx</key>\n<array>\n<dict>\n"
      "<key>Attributes</key><string>0x0050</string>\n<key>Data</key>\n<data>\n\t\t" +
      base64(table.view()) +
      "\n</data>\n<key>ID</key><string>0</string>\n<key>Name</key><string>whole "
      "disk</string>\n</dict>\n</array>\n</dict>\n</dict>\n</plist>\n";
  Canvas trailer(512);
  trailer.text(0, "koly");
  trailer.big(4, 4, 4);
  trailer.big(8, 512, 4);
  trailer.big(32, data.size(), 8);
  trailer.big(60, 1, 4);
  trailer.big(216, data.size(), 8);
  trailer.big(224, list.size(), 8);
  trailer.big(492, disk.size() / 512, 8);
  return data.text(list).bytes(trailer.take()).take();
}

Bytes make_android_sparse(const Bytes& disk, std::size_t from, std::size_t to) {
  constexpr std::size_t kBlock = 4096;
  std::size_t blocks = up(disk.size(), kBlock) / kBlock;
  to = std::min(to, blocks);
  ByteWriter chunks;
  std::size_t count = 0;
  auto chunk = [&](unsigned type, std::size_t length, ByteView data) {
    if (length == 0 && type != 0xCAC4) return;
    chunks.u16(type).u16(0).u32(length).u32(12 + data.size()).bytes(data);
    ++count;
  };
  Bytes whole = disk;
  whole.resize(blocks * kBlock);
  chunk(0xCAC3, from, {});
  for (std::size_t i = from; i < to; ++i) {
    ByteView plain = ByteView(whole).subspan(i * kBlock, kBlock);
    bool fill = true;
    for (std::size_t k = 4; k < kBlock; ++k) fill &= plain[k] == plain[k - 4];
    if (zeros(plain)) {
      chunk(0xCAC3, 1, {});
    } else if (fill) {
      chunk(0xCAC2, 1, plain.first(4));
    } else {
      chunk(0xCAC1, 1, plain);
    }
  }
  chunk(0xCAC3, blocks - to, {});
  if (from == 0 && to == blocks) chunk(0xCAC4, 0, ByteWriter().u32(crc32(0, whole)).view());
  return ByteWriter()
      .u32(0xED26FF3A)
      .u16(1)
      .u16(0)
      .u16(28)
      .u16(12)
      .u32(kBlock)
      .u32(blocks)
      .u32(count)
      .u32(0)
      .bytes(chunks.view())
      .take();
}

}  // namespace operculum::test
