#include "support/ldm_writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>

#include "base/cursor.h"
#include "base/text.h"
#include "support/byte_writer.h"
#include "support/disk_writer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kSector = 512, kDataAt = 64, kDataSize = 256, kConfigAt = kDataAt + kDataSize,
                      kConfigSize = 64, kDisk = (kConfigAt + kConfigSize) * kSector, kChunk = 8;

std::string disk_id(std::size_t number) {
  return fmt::format("5a17a00{}-1c0f-4d3e-9a51-7dfe00c0ffee", number);
}

struct Part {
  std::size_t disk, at, size, within = 0, column = 0;  ///< sectors
};
struct Mirror {
  unsigned kind;  ///< 1: striped, 2: joined, 3: with parity
  std::vector<Part> parts;
};
struct Volume {
  std::string name;
  std::size_t size;  ///< sectors
  std::vector<Mirror> components;
};

const std::vector<Volume>& volumes() {
  static const std::vector<Volume> all = {
      {"Simple", 20, {{2, {{1, 10, 20}}}}},
      {"Spanned", 50, {{2, {{1, 40, 30}, {2, 10, 20, 30}}}}},
      {"Striped", 64, {{1, {{1, 80, 32, 0, 0}, {2, 40, 32, 0, 1}}}}},
      {"Mirrored", 24, {{2, {{1, 120, 24}}}, {2, {{2, 80, 24}}}}},
      {"Parity", 64, {{3, {{1, 160, 32, 0, 0}, {2, 120, 32, 0, 1}, {3, 10, 32, 0, 2}}}}},
  };
  return all;
}

Bytes content_of(const Volume& volume) {
  Bytes out;
  for (std::size_t i = 0; i < volume.size; ++i) {
    std::string one = fmt::format("{} sector {:04} ", volume.name, i);
    one.resize(kSector, static_cast<char>('a' + i % 26));
    out.insert(out.end(), one.begin(), one.end());
  }
  return out;
}

/// What lies in a column of a component.
Bytes column_of(const Mirror& component, const Bytes& content, std::size_t column, std::size_t columns) {
  constexpr std::size_t kBytes = kChunk * kSector;
  Bytes out;
  if (component.kind == 2) return content;
  std::size_t data = component.kind == 1 ? columns : columns - 1;
  for (std::size_t row = 0; row * data * kBytes < content.size(); ++row) {
    auto chunk = [&](std::size_t number) {
      ByteView whole = ByteView(content).subspan((row * data + number) * kBytes, kBytes);
      return Bytes(whole.begin(), whole.end());
    };
    Bytes one(kBytes);
    std::size_t parity = columns - 1 - row % columns;  // to the left, what follows it begins behind it
    if (component.kind == 1) {
      one = chunk(column);
    } else if (column == parity) {
      for (std::size_t i = 0; i < data; ++i) {
        Bytes other = chunk(i);
        for (std::size_t b = 0; b < kBytes; ++b) one[b] ^= other[b];
      }
    } else {
      one = chunk((column + columns - parity - 1) % columns);
    }
    out.insert(out.end(), one.begin(), one.end());
  }
  return out;
}

void put_number(ByteWriter& out, std::uint64_t value) {
  std::size_t width = 1;
  while (width < 8 && value >> (8 * width) != 0) ++width;
  out.u8(width);
  for (std::size_t i = width; i-- > 0;) out.u8(value >> (8 * i));
}
void put_text(ByteWriter& out, std::string_view text) {
  out.u8(text.size()).text(text);
}

Bytes object(unsigned type, unsigned flags, const std::function<void(ByteWriter&)>& fill) {
  ByteWriter body;
  fill(body);
  ByteWriter out;
  out.u16be(0).u8(flags).u8(type).u32be(body.size()).bytes(body.view());
  return out.take();
}

/// The records of all that is there; ids count on.
std::vector<Bytes> objects() {
  std::vector<Bytes> out;
  std::uint64_t id = 300;  // so that some need two bytes
  for (std::size_t disk = 1; disk <= 3; ++disk) {
    bool binary = disk == 2;  // both forms of an id
    out.push_back(object(binary ? 0x44 : 0x34, 0, [&](ByteWriter& w) {
      put_number(w, disk);
      put_text(w, fmt::format("Disk{}", disk));
      if (binary) {
        std::string digits = disk_id(disk);
        std::erase(digits, '-');
        w.bytes(*from_hex(digits));
      } else {
        put_text(w, disk_id(disk));
        put_text(w, "");
      }
    }));
  }
  for (const Volume& volume : volumes()) {
    std::uint64_t volume_id = id++;
    out.push_back(object(0x51, 0x02 | 0x08, [&](ByteWriter& w) {
      put_number(w, volume_id);
      put_text(w, volume.name);
      put_text(w, "gen");
      put_text(w, "");
      w.text(std::string("ACTIVE\0\0\0\0\0\0\0\0", 14)).zeros(7);
      put_number(w, volume.components.size());
      w.zeros(16);
      put_number(w, volume.size);
      w.zeros(4).u8(7).zeros(16);
      put_text(w, "first id");
      put_text(w, "T:");
    }));
    for (const Mirror& component : volume.components) {
      std::uint64_t component_id = id++;
      bool columns = component.kind != 2;
      out.push_back(object(0x32, columns ? 0x10 : 0, [&](ByteWriter& w) {
        put_number(w, component_id);
        put_text(w, volume.name + "-01");
        put_text(w, "ACTIVE");
        w.u8(component.kind).zeros(4);
        put_number(w, component.parts.size());
        w.zeros(16);
        put_number(w, volume_id);
        w.zeros(1);
        if (columns) {
          put_number(w, kChunk);
          put_number(w, component.parts.size());
        }
      }));
      for (auto part = component.parts.rbegin(); part != component.parts.rend(); ++part)
        out.push_back(object(0x33, columns ? 0x08 : 0, [&](ByteWriter& w) {
          put_number(w, id++);
          put_text(w, fmt::format("Disk{}-01", part->disk));
          w.zeros(12).u64be(part->at).u64be(part->within);
          put_number(w, part->size);
          put_number(w, component_id);
          put_number(w, part->disk);
          if (columns) put_number(w, part->column);
        }));
    }
  }
  return out;
}

Bytes text_field(std::string_view text, std::size_t size) {
  Bytes out(text.begin(), text.end());
  out.resize(size);
  return out;
}

void put(Bytes& over, std::size_t at, const Bytes& bytes) {
  std::copy(bytes.begin(), bytes.end(), over.begin() + static_cast<std::ptrdiff_t>(at));
}

Bytes private_head(std::size_t number, std::size_t data_at, std::size_t config_at) {
  ByteWriter head;
  head.text("PRIVHEAD").zeros(4).u16be(2).u16be(12).zeros(32);
  head.bytes(text_field(disk_id(number), 64)).zeros(64).bytes(text_field(kDynamicGroup, 64));
  head.bytes(text_field("Tide-Dg0", 31)).zeros(283 - head.size());
  head.u64be(data_at).u64be(kDataSize).u64be(config_at).u64be(kConfigSize);
  return head.take();
}

/// The configuration: contents, and records of 64 bytes, so that most need several.
Bytes configuration(std::uint64_t sequence) {
  constexpr std::size_t kRecord = 64, kRoom = kRecord - 16;
  Bytes out(kConfigSize * kSector);
  ByteWriter contents;
  contents.text("TOCBLOCK").zeros(28).bytes(text_field("config", 10)).u64be(3).u64be(kConfigSize - 5);
  put(out, kSector, contents.view());
  std::uint64_t count = 4;  // the first records are of the database itself
  ByteWriter records;
  records.zeros(4 * kRecord);
  std::uint32_t group = 7;
  for (const Bytes& one : objects()) {
    std::size_t pieces = (one.size() + kRoom - 1) / kRoom;
    for (std::size_t i = 0; i < pieces; ++i) {
      Bytes piece(one.begin() + static_cast<std::ptrdiff_t>(i * kRoom),
                  one.begin() + static_cast<std::ptrdiff_t>(std::min(one.size(), (i + 1) * kRoom)));
      piece.resize(kRoom);
      records.text("VBLK").u32be(++count).u32be(group).u16be(i).u16be(pieces).bytes(piece);
    }
    ++group;
  }
  ByteWriter head;
  head.text("VMDB").u32be(count).u32be(kRecord).u32be(kSector).u16be(1).u16be(4).u16be(10);
  head.bytes(text_field("Tide-Dg0", 31)).bytes(text_field(kDynamicGroup, 64)).u64be(sequence);
  put(out, 3 * kSector, head.view());
  put(out, 4 * kSector, records.view());
  return out;
}

Bytes data_of_disk(std::size_t number) {
  Bytes out(kDataSize * kSector);
  for (const Volume& volume : volumes()) {
    Bytes content = content_of(volume);
    for (const Mirror& component : volume.components) {
      for (const Part& part : component.parts) {
        if (part.disk != number) continue;
        Bytes column = column_of(component, content, part.column, component.parts.size());
        Bytes piece(column.begin() + static_cast<std::ptrdiff_t>(part.within * kSector),
                    column.begin() + static_cast<std::ptrdiff_t>((part.within + part.size) * kSector));
        put(out, part.at * kSector, piece);
      }
    }
  }
  return out;
}

}  // namespace

const std::vector<DynamicVolume>& dynamic_volumes() {
  static const std::vector<DynamicVolume> all = [] {
    std::vector<DynamicVolume> out;
    for (const Volume& one : volumes()) out.push_back({one.name, content_of(one)});
    return out;
  }();
  return all;
}

Bytes dynamic_disk(std::size_t number, std::uint64_t sequence) {
  Bytes out = make_mbr({{.data = Bytes(kSector), .mbr_type = 0x42}});
  out.resize(kDisk);
  put(out, 6 * kSector, private_head(number, kDataAt, kConfigAt));
  put(out, kDataAt * kSector, data_of_disk(number));
  put(out, kConfigAt * kSector, configuration(sequence));
  return out;
}

Bytes dynamic_gpt_disk(std::size_t number) {
  Bytes config(kConfigSize * kSector + kSector);
  put(config, 0, configuration(9));
  std::vector<DiskPart> parts = {
      {.data = config, .type = "5808c8aa-7e8f-42e0-85d2-e1e90434cfb3"},
      {.data = data_of_disk(number), .type = "af9b60a0-1431-4f62-bc68-3311714a69ad"}};
  Bytes out = make_gpt(parts);
  auto place = [&](std::size_t entry, std::size_t at) {
    return static_cast<std::size_t>(load_little<std::uint64_t>(out.data() + 2 * kSector + entry * 128 + at));
  };
  put(out, place(0, 40) * kSector, private_head(number, place(1, 32), place(0, 32)));
  return out;
}

}  // namespace operculum::test
