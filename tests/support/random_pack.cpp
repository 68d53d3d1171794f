#include "support/random_pack.h"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <random>

#include "base/checksum.h"
#include "codec/codec.h"
#include "codec/lzss.h"
#include "codec/raw_blocks.h"
#include "support/byte_writer.h"

namespace operculum::test {
namespace {

class Lot {
 public:
  explicit Lot(std::uint64_t seed) : engine_(seed * 7919 + 17) {}
  std::uint64_t below(std::uint64_t limit) { return engine_() % limit; }
  std::uint64_t between(std::uint64_t least, std::uint64_t most) { return least + below(most - least + 1); }
  bool one_in(std::uint64_t n) { return below(n) == 0; }
  template <typename T>
  T of(std::initializer_list<T> choices) {
    return *(choices.begin() + static_cast<std::ptrdiff_t>(below(choices.size())));
  }

 private:
  std::mt19937_64 engine_;
};

constexpr std::string_view kWords[] = {"crab",   "tide",   "harbour", "lamp", "shell", "rope",
                                       "anchor", "gull",   "lantern", "pier", "kelp",  "mussel",
                                       "chart",  "beacon", "wader",   "dune"};
constexpr std::string_view kEndings[] = {".png", ".wav", ".txt", ".dat", ".map", ".fnt"};

std::string word(Lot& lot) {
  return std::string(kWords[lot.below(std::size(kWords))]);
}

Bytes content(Lot& lot, std::string_view ending) {
  ByteWriter out;
  std::size_t size =
      static_cast<std::size_t>(lot.one_in(5) ? lot.between(2000, 9000) : lot.between(40, 1500));
  if (ending == ".png") out.text("\x89PNG\r\n\x1a\n").u32be(13).text("IHDR");
  if (ending == ".wav") out.text("RIFF").u32(static_cast<std::uint32_t>(size)).text("WAVEfmt ");
  if (ending == ".txt") {
    while (out.size() < size) out.text(word(lot)).text(lot.one_in(6) ? ".\n" : " ");
  } else if (ending == ".dat" || ending == ".map") {  // records that pack well
    while (out.size() < size) out.u16(lot.below(12)).u8(lot.below(3)).u8(0).u32(out.size() / 64);
  } else {
    while (out.size() < size) out.u8(lot.one_in(3) ? 0 : lot.below(256));
  }
  return out.take();
}

enum class Names { fixed, sized, zero, table, none };
enum class Table { front, end_by_header, end_by_trailer, chain };
enum class Codec { none, zlib, deflate, zstd, lz4_block, lzss };
enum class Disguise { none, xored, packed };

/// What was drawn.
struct Draw {
  bool big = false;
  unsigned offset_width = 4, size_width = 4, count_width = 4;
  Names names = Names::fixed;
  unsigned name_bytes = 32, name_prefix = 1;
  Table table = Table::front;
  Codec codec = Codec::none;
  Disguise disguise = Disguise::none;
  std::uint64_t factor = 1, align = 1;
  bool relative = false, sizes_only = false, offsets_only = false, flag = false, sum = false, time = false;
  bool mask = false, shuffled = false;
  std::size_t rotation = 0;  // the order of fields

  std::string text() const {
    constexpr std::string_view kNames[] = {"fixed", "sized", "zero", "table", "none"};
    constexpr std::string_view kTables[] = {"front", "end_by_header", "end_by_trailer", "chain"};
    constexpr std::string_view kCodecs[] = {"none", "zlib", "deflate", "zstd", "lz4_block", "lzss"};
    constexpr std::string_view kDisguises[] = {"none", "xored", "packed"};
    return fmt::format(
        "{} offset{} size{} count{} names={}/{}/{} table={} codec={} disguise={} factor={} "
        "align={}{}{}{}{}{}{}{}{} rotation={}",
        big ? "big" : "little", offset_width, size_width, count_width, kNames[static_cast<int>(names)],
        name_bytes, name_prefix, kTables[static_cast<int>(table)], kCodecs[static_cast<int>(codec)],
        kDisguises[static_cast<int>(disguise)], factor, align, relative ? " relative" : "",
        sizes_only ? " sizes_only" : "", offsets_only ? " offsets_only" : "", flag ? " flag" : "",
        sum ? " sum" : "", time ? " time" : "", mask ? " mask" : "", shuffled ? " shuffled" : "", rotation);
  }
};

Draw draw(Lot& lot) {
  Draw d;
  d.big = lot.one_in(3);
  d.offset_width = lot.of<unsigned>({4, 4, 4, 8});
  d.size_width = lot.of<unsigned>({4, 4, 4, 8});
  d.count_width = lot.of<unsigned>({2, 4, 4});
  d.names = lot.of({Names::fixed, Names::fixed, Names::sized, Names::zero, Names::table, Names::none});
  d.name_bytes = lot.of<unsigned>({12, 16, 24, 32, 40, 56, 64});
  d.name_prefix = lot.of<unsigned>({1, 2, 4});
  d.table = lot.of({Table::front, Table::front, Table::end_by_header, Table::end_by_header,
                    Table::end_by_trailer, Table::chain});
  d.codec = lot.of({Codec::none, Codec::none, Codec::none, Codec::zlib, Codec::deflate, Codec::zstd,
                    Codec::lz4_block, Codec::lzss});
  d.disguise = lot.of({Disguise::none, Disguise::none, Disguise::none, Disguise::none, Disguise::none,
                       Disguise::none, Disguise::none, Disguise::xored, Disguise::packed});
  d.align = lot.of<std::uint64_t>({1, 1, 1, 4, 16, 512, 2048});
  if (d.align >= 16 && lot.one_in(2)) d.factor = d.align;
  d.relative = d.table == Table::front && d.factor == 1 && lot.one_in(4);
  d.sizes_only = d.table == Table::front && lot.one_in(6);
  d.offsets_only =
      !d.sizes_only && d.table != Table::chain && d.codec == Codec::none && d.align == 1 && lot.one_in(5);
  d.flag = d.codec != Codec::none && lot.one_in(2);
  d.sum = lot.one_in(4);
  d.time = lot.one_in(5);
  d.mask = !d.sizes_only && d.offset_width == 4 && lot.one_in(12);
  d.shuffled = !d.offsets_only && !d.sizes_only && lot.one_in(5);
  d.rotation = lot.below(4);
  if (d.table == Table::chain) {
    d.disguise = Disguise::none;
    d.align = std::min<std::uint64_t>(d.align, 4);
    if (d.names == Names::table || d.names == Names::none) d.names = Names::zero;
    d.shuffled = d.mask = false;
    d.factor = 1;
  }
  if (d.disguise == Disguise::packed) d.mask = false;
  return d;
}

Bytes pack(const Draw& d, const Bytes& plain) {
  switch (d.codec) {
    case Codec::none:
      return plain;
    case Codec::zlib:
      return encode("zlib", plain);
    case Codec::deflate:
      return encode("deflate", plain);
    case Codec::zstd:
      return encode("zstd", plain);
    case Codec::lz4_block:
      return pack_lz4_block(plain, std::nullopt);
    case Codec::lzss:
      return pack_lzss(plain, {});
  }
  return plain;
}

/// An entry as it will lie in the pack.
struct Item {
  std::string path;
  Bytes stored;
  std::uint64_t size = 0, at = 0, name_at = 0;
  std::uint32_t sum = 0;
  bool packed = false;
};

class Maker {
 public:
  explicit Maker(std::uint64_t number) : lot_(number), d_(draw(lot_)) {}

  RandomPack make() {
    RandomPack pack;
    pack.features = d_.text();
    make_items(pack);
    if (d_.table == Table::chain)
      chain();
    else
      table();
    pack.bytes = out_.take();
    return pack;
  }

 private:
  void number(ByteWriter& out, std::uint64_t value, unsigned width) const {
    for (unsigned i = 0; i < width; ++i) out.u8(value >> (8 * (d_.big ? width - 1 - i : i)));
  }

  void make_items(RandomPack& pack) {
    std::size_t count = static_cast<std::size_t>(lot_.between(5, 60));
    for (std::size_t i = 0; i < count; ++i) {
      std::string ending(kEndings[lot_.below(std::size(kEndings))]);
      std::string path = fmt::format("{}{}", word(lot_), i);
      if (d_.names != Names::fixed || d_.name_bytes > 16) path = fmt::format("{}/{}", word(lot_), path);
      path += ending;
      Bytes data = content(lot_, ending);
      Item item;
      item.path = path;
      item.size = data.size();
      item.sum = crc32(0, data);
      item.stored = test::pack(d_, data);
      item.packed = d_.codec != Codec::none && item.stored.size() < data.size();
      if (!item.packed) item.stored = data;
      items_.push_back(std::move(item));
      pack.files.push_back({d_.names == Names::none ? "" : path, std::move(data)});
    }
    magic_ = lot_.of<std::string_view>({"CHST", "LAMP\x02", "Beacon01", "\xb1\x07\xc4\x9a", "TIDEPACK"});
    mask_ = d_.mask ? static_cast<std::uint32_t>(lot_.between(0x10, 0xf0) * 0x01010101u) : 0;
  }

  void fields(ByteWriter& out, const Item& item) const {
    auto sizes = [&] {
      if (!d_.offsets_only) number(out, item.stored.size(), d_.size_width);
      if (d_.codec != Codec::none) number(out, item.size, d_.size_width);
    };
    auto place = [&] {
      if (!d_.sizes_only && d_.table != Table::chain)
        number(out, (item.at / d_.factor) ^ mask_, d_.offset_width);
    };
    auto more = [&] {
      if (d_.flag) number(out, item.packed ? 1 : 0, 4);
      if (d_.sum) number(out, item.sum, 4);
      if (d_.time) number(out, 1100000000u + item.size * 977, 4);
    };
    if (d_.rotation % 2 == 0) {
      place();
      sizes();
      more();
    } else {
      more();
      sizes();
      place();
    }
  }

  void name(ByteWriter& out, const Item& item) const {
    switch (d_.names) {
      case Names::fixed: {
        std::string padded = item.path;
        padded.resize(std::max<std::size_t>(d_.name_bytes, 24));
        out.text(padded);
        break;
      }
      case Names::sized:
        number(out, item.path.size(), d_.name_prefix);
        out.text(item.path);
        break;
      case Names::zero:
        out.text(item.path).u8(0);
        break;
      case Names::table:
        number(out, item.name_at, 4);
        break;
      case Names::none:
        break;
    }
  }

  void record(ByteWriter& out, const Item& item) const {
    if (d_.rotation < 2) name(out, item);
    fields(out, item);
    if (d_.rotation >= 2) name(out, item);
  }

  ByteWriter index() {
    ByteWriter names;
    for (Item& item : items_) {
      item.name_at = names.size();
      names.text(item.path).u8(0);
    }
    ByteWriter out;
    for (const Item& item : items_) record(out, item);
    if (d_.names == Names::table) out.bytes(names.view());
    return out;
  }

  Bytes disguised(Bytes bytes) const {
    if (d_.disguise == Disguise::packed) return encode("zlib", bytes);
    if (d_.disguise == Disguise::xored) {
      constexpr std::string_view kKey = "\x5a\xc3\x21\x7e";
      for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] ^= static_cast<Byte>(kKey[i % kKey.size()]);
    }
    return bytes;
  }

  void chain() {
    out_.text(magic_);
    number(out_, items_.size(), d_.count_width);
    for (const Item& item : items_) {
      record(out_, item);
      out_.bytes(item.stored).align(static_cast<std::size_t>(d_.align));
    }
  }

  void table() {
    bool front = d_.table == Table::front, packed = d_.disguise == Disguise::packed;
    std::vector<std::size_t> order(items_.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    if (d_.shuffled) std::reverse(order.begin() + static_cast<std::ptrdiff_t>(order.size() / 3), order.end());
    // A packed index has a size that depends on the offsets in it: room is kept.
    std::uint64_t header = magic_.size() + d_.count_width + (front && !packed ? 0 : 4) + (packed ? 8 : 0);
    std::uint64_t room = front ? (packed ? index().size() + 256 : index().size()) : 0;
    std::uint64_t data = (header + room + d_.align - 1) / d_.align * d_.align;
    if (d_.table == Table::end_by_trailer) data = (magic_.size() + d_.align - 1) / d_.align * d_.align;
    std::uint64_t base = d_.relative ? data : 0, at = data;
    for (std::size_t i : order) {
      items_[i].at = at - base;
      at = (at + items_[i].stored.size() + d_.align - 1) / d_.align * d_.align;
    }
    Bytes plain = index().take();
    Bytes stored = disguised(plain);
    out_.text(magic_);
    auto numbers = [&](std::uint64_t place) {
      number(out_, items_.size(), d_.count_width);
      if (!front || packed) number(out_, place, 4);
      if (packed) {
        number(out_, stored.size(), 4);
        number(out_, plain.size(), 4);
      }
    };
    if (front) {
      numbers(header);
      out_.bytes(stored);
    } else if (d_.table == Table::end_by_header) {
      numbers(at);
    }
    for (std::size_t i : order) {
      out_.align(static_cast<std::size_t>(d_.align));
      if (out_.size() < items_[i].at + base)
        out_.zeros(static_cast<std::size_t>(items_[i].at + base - out_.size()));
      out_.bytes(items_[i].stored);
    }
    out_.align(static_cast<std::size_t>(d_.align));
    if (front) return;
    out_.bytes(stored);
    if (d_.table == Table::end_by_trailer) numbers(at);
  }

  Lot lot_;
  Draw d_;
  std::string_view magic_;
  std::uint32_t mask_ = 0;
  std::vector<Item> items_;
  ByteWriter out_;
};

}  // namespace

RandomPack random_pack(std::uint64_t number) {
  return Maker(number).make();
}

Bytes random_nothing(std::uint64_t number) {
  Lot lot(number + 1'000'000);
  ByteWriter out;
  std::size_t size = static_cast<std::size_t>(lot.between(500, 40000));
  switch (number % 6) {
    case 0:  // noise, as of something encrypted
      while (out.size() < size) out.u8(lot.below(256));
      break;
    case 1:  // prose
      while (out.size() < size) out.text(word(lot)).text(lot.one_in(7) ? ".\n" : " ");
      break;
    case 2: {  // one packed stream
      ByteWriter plain;
      while (plain.size() < size) plain.text(word(lot)).u8(lot.below(256));
      return encode(lot.of<std::string_view>({"zlib", "gzip", "zstd", "xz"}), plain.view());
    }
    case 3:  // a picture without packing: smooth lines
      out.text("PIC1").u16(160).u16(static_cast<std::uint16_t>(size / 160));
      for (std::size_t i = 0; out.size() < size; ++i) out.u8(128 + (i % 160) / 4 + lot.below(5));
      break;
    case 4:  // measurements that rise, second by second
      out.text("TIDELOG1").u32(static_cast<std::uint32_t>(size / 12));
      for (std::uint64_t i = 0; out.size() < size; ++i)
        out.u32(1500000000 + i * 60).u32(lot.below(5000)).u32(lot.below(100));
      break;
    default:  // lines of a table
      for (std::uint64_t i = 0; out.size() < size; ++i)
        out.text(fmt::format("{},{},{}\n", i, word(lot), lot.below(10000)));
  }
  return out.take();
}

}  // namespace operculum::test
