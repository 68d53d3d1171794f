#include "support/fat_writer.h"

#include <fmt/format.h>

#include <bit>
#include <map>

namespace operculum::test {
namespace {

constexpr std::size_t kSector = 512, kRow = 32;
constexpr std::uint32_t kDate = (46 << 9) | (3 << 5) | 1,
                        kTime = (14 << 11) | (5 << 5) | 4;  // 2026-03-01 14:05:08

std::u16string wide(const std::string& text) {
  return {text.begin(), text.end()};
}

/// Hands out clusters: every other one, so that a chain has to be followed.
class Clusters {
 public:
  std::vector<std::uint32_t> take(std::size_t bytes, std::size_t cluster, bool in_a_row = false) {
    std::vector<std::uint32_t> out;
    for (std::size_t at = 0; at < bytes; at += cluster) {
      out.push_back(next_);
      next_ += in_a_row ? 1 : 2;
    }
    if (in_a_row) ++next_;
    return out;
  }
  std::uint32_t next() const { return next_; }

 private:
  std::uint32_t next_ = 3;
};

class FatWriter {
 public:
  FatWriter(const SampleTree& tree, unsigned bits, const std::string& label)
      : tree_(tree), bits_(bits), label_(label) {
    clusters_ = bits == 12 ? 4000 : bits == 16 ? 5000 : 66000;
    cluster_ = bits == 32 ? 512 : 1024;
    table_sectors_ = (static_cast<std::size_t>(clusters_ + 2) * bits / 8 + kSector) / kSector;
    reserved_ = bits == 32 ? 32 : 1;
    root_rows_ = bits == 32 ? 0 : 512;
    heap_ = (reserved_ + 2 * table_sectors_) * kSector + root_rows_ * kRow;
    disk_ = std::make_unique<Canvas>(heap_ + static_cast<std::size_t>(clusters_) * cluster_);
  }

  Bytes build() {
    boot();
    set(0, bits_ == 12 ? 0xFF8 : bits_ == 16 ? 0xFFF8 : 0x0FFFFFF8);
    set(1, bits_ == 12 ? 0xFFF : bits_ == 16 ? 0xFFFF : 0x0FFFFFFF);
    if (bits_ == 32) set(2, 0x0FFFFFFF);
    Bytes root = rows_of("", 0);
    if (bits_ == 32) {
      write_chain(root, 2);
    } else {
      disk_->put((reserved_ + 2 * table_sectors_) * kSector, root);
    }
    for (std::size_t i = 0; i < table_sectors_ * kSector; ++i)
      (*disk_)[(reserved_ + table_sectors_) * kSector + i] = (*disk_)[reserved_ * kSector + i];
    return disk_->take();
  }

 private:
  void boot() {
    Canvas& d = *disk_;
    std::size_t sectors = d.size() / kSector;
    d.put(0, Bytes{0xEB, 0x3C, 0x90});
    d.text(3, "SALTMRSH");
    d.u16(11, kSector);
    d[13] = static_cast<Byte>(cluster_ / kSector);
    d.u16(14, reserved_);
    d[16] = 2;
    d.u16(17, root_rows_);
    if (sectors < 65536) d.u16(19, sectors);
    if (sectors >= 65536) d.u32(32, sectors);
    d[21] = 0xF8;
    d.u16(22, bits_ == 32 ? 0 : table_sectors_);
    std::size_t extended = 38;
    if (bits_ == 32) {
      d.u32(36, table_sectors_);
      d.u32(44, 2);
      d.u16(48, 1);
      extended = 66;
    }
    d[extended] = 0x29;
    d.u32(extended + 1, 0x20260301);
    d.text(extended + 5, fmt::format("{:<11}", label_));
    d.u16(510, 0xAA55);
  }

  void set(std::uint32_t cluster, std::uint32_t value) {
    std::size_t at = reserved_ * kSector + static_cast<std::size_t>(cluster) * bits_ / 8;
    Canvas& d = *disk_;
    if (bits_ == 32) return d.u32(at, value);
    if (bits_ == 16) return d.u16(at, value);
    std::uint32_t word = d[at] | (d[at + 1] << 8);
    word = (cluster & 1) != 0 ? (word & 0x000F) | (value << 4) : (word & 0xF000) | (value & 0xFFF);
    d.u16(at, word);
  }

  std::uint32_t last() const { return bits_ == 12 ? 0xFFF : bits_ == 16 ? 0xFFFF : 0x0FFFFFFF; }

  std::uint32_t write_chain(ByteView data, std::uint32_t first = 0) {
    std::vector<std::uint32_t> chain =
        cluster_numbers_.take(data.size() - std::min(data.size(), first != 0 ? cluster_ : 0), cluster_);
    if (first != 0) chain.insert(chain.begin(), first);
    for (std::size_t i = 0; i < chain.size(); ++i) {
      set(chain[i], i + 1 < chain.size() ? chain[i + 1] : last());
      disk_->put(heap_ + (chain[i] - 2) * cluster_,
                 data.subspan(i * cluster_, std::min(cluster_, data.size() - i * cluster_)));
    }
    return chain.empty() ? 0 : chain[0];
  }

  static void row(ByteWriter& out, std::string_view short_name, unsigned attributes, std::uint32_t cluster,
                  std::size_t size) {
    out.text(short_name)
        .u8(attributes)
        .u8(0)
        .u8(0)
        .u16(kTime)
        .u16(kDate)
        .u16(kDate)
        .u16(cluster >> 16)
        .u16(kTime)
        .u16(kDate)
        .u16(cluster)
        .u32(size);
  }

  Bytes rows_of(const std::string& path, std::uint32_t parent) {
    ByteWriter out;
    if (path.empty()) row(out, fmt::format("{:<11}", label_), 8, 0, 0);
    std::uint32_t own = 0;
    std::vector<std::size_t> children = children_of(tree_, path);
    if (!path.empty()) {  // its own cluster must be known to what is in it
      own = own_[path];
      row(out, ".          ", 16, own, 0);
      row(out, "..         ", 16, parent, 0);
    }
    for (std::size_t index : children) {
      const SampleNode& node = tree_[index];
      std::uint32_t cluster = 0;
      bool folder = node.kind == EntryKind::folder;
      if (folder) {
        cluster = own_[node.path] = cluster_numbers_.take(1, cluster_)[0];
        Bytes rows = rows_of(node.path, own);
        write_chain(rows, cluster);
      } else {
        cluster = write_chain(node.data);
      }
      std::string alias = fmt::format("FILE{:04}   ", ++aliases_);
      long_name(out, node.name(), alias);
      row(out, alias,
          folder                             ? 16
          : (node.permissions() & 0200) == 0 ? 33
                                             : 32,
          cluster, folder ? 0 : node.data.size());
    }
    return out.take();
  }

  static void long_name(ByteWriter& out, const std::string& name, const std::string& alias) {
    std::uint8_t sum = 0;
    for (char c : alias)
      sum = static_cast<std::uint8_t>(((sum & 1) << 7) + (sum >> 1) + static_cast<std::uint8_t>(c));
    std::u16string units = wide(name);
    std::size_t parts = (units.size() + 12) / 13;
    if (units.size() % 13 != 0) units += u'\0';
    units.resize(parts * 13, u'\xFFFF');
    for (std::size_t part = parts; part > 0; --part) {
      std::u16string_view piece = std::u16string_view(units).substr((part - 1) * 13, 13);
      out.u8(part | (part == parts ? 0x40 : 0));
      for (int i = 0; i < 5; ++i) out.u16(piece[static_cast<std::size_t>(i)]);
      out.u8(15).u8(0).u8(sum);
      for (int i = 5; i < 11; ++i) out.u16(piece[static_cast<std::size_t>(i)]);
      out.u16(0);
      for (int i = 11; i < 13; ++i) out.u16(piece[static_cast<std::size_t>(i)]);
    }
  }

  const SampleTree& tree_;
  unsigned bits_;
  std::string label_;
  std::uint32_t clusters_ = 0;
  std::size_t cluster_ = 0, table_sectors_ = 0, reserved_ = 0, root_rows_ = 0, heap_ = 0;
  std::unique_ptr<Canvas> disk_;
  Clusters cluster_numbers_;
  std::map<std::string, std::uint32_t> own_;
  unsigned aliases_ = 0;
};

class ExfatWriter {
 public:
  ExfatWriter(const SampleTree& tree, const std::string& label)
      : tree_(tree), label_(label), disk_(kHeap + kClusters * kCluster) {}

  Bytes build() {
    disk_.u32(kTable, 0xFFFFFFF8);
    disk_.u32(kTable + 4, 0xFFFFFFFF);
    ByteWriter root;
    root.u8(0x83).u8(label_.size());
    for (char16_t c : wide(label_)) root.u16(c);
    root.align(kRow);
    std::uint32_t bitmap = clusters_.take(1, kCluster)[0];
    disk_.u32(kTable + bitmap * 4, 0xFFFFFFFF);
    root.u8(0x81).zeros(19).u32(bitmap).u64((kClusters + 7) / 8);
    Bytes rows = root.take(), more = rows_of("");
    rows.insert(rows.end(), more.begin(), more.end());
    std::uint32_t first = write(rows, false);
    for (std::uint32_t i = 0; i + 2 < clusters_.next(); i += 1)
      disk_[place(bitmap) + i / 8] |= static_cast<Byte>(1U << (i % 8));
    boot(first);
    return disk_.take();
  }

 private:
  static constexpr std::size_t kCluster = 4096, kTable = 24 * kSector, kHeap = 64 * kSector, kClusters = 900;
  static std::size_t place(std::uint32_t cluster) { return kHeap + (cluster - 2) * kCluster; }

  std::uint32_t write(ByteView data, bool in_a_row) {
    std::vector<std::uint32_t> chain = clusters_.take(data.size(), kCluster, in_a_row);
    for (std::size_t i = 0; i < chain.size(); ++i) {
      if (!in_a_row) disk_.u32(kTable + chain[i] * 4, i + 1 < chain.size() ? chain[i + 1] : 0xFFFFFFFF);
      disk_.put(place(chain[i]), data.subspan(i * kCluster, std::min(kCluster, data.size() - i * kCluster)));
    }
    return chain.empty() ? 0 : chain[0];
  }

  Bytes rows_of(const std::string& path) {
    ByteWriter out;
    for (std::size_t index : children_of(tree_, path)) {
      const SampleNode& node = tree_[index];
      bool folder = node.kind == EntryKind::folder, in_a_row = index % 2 == 0;
      Bytes data = folder ? rows_of(node.path) : node.data;
      if (folder && data.empty()) data.resize(kCluster);
      std::uint32_t first = write(data, in_a_row);
      std::size_t size = folder ? (data.size() + kCluster - 1) / kCluster * kCluster : data.size();
      std::u16string name = wide(node.name());
      std::size_t parts = (name.size() + 14) / 15;
      ByteWriter set;
      std::uint32_t stamp = (kDate << 16) | kTime;
      set.u8(0x85)
          .u8(1 + parts)
          .u16(0)
          .u16(folder ? 16 : 32)
          .u16(0)
          .u32(stamp)
          .u32(stamp)
          .u32(stamp)
          .u8(0)
          .u8(0)
          .u8(0x80)
          .u8(0x80)
          .u8(0x80)
          .zeros(7);
      set.u8(0xC0)
          .u8(1 | (in_a_row ? 2 : 0))
          .u8(0)
          .u8(name.size())
          .u16(0)
          .u16(0)
          .u64(size)
          .u32(0)
          .u32(first)
          .u64(size);
      for (std::size_t part = 0; part < parts; ++part) {
        set.u8(0xC1).u8(0);
        for (std::size_t i = 0; i < 15; ++i) set.u16(part * 15 + i < name.size() ? name[part * 15 + i] : 0);
      }
      Bytes raw = set.take();
      std::uint16_t sum = 0;
      for (std::size_t i = 0; i < raw.size(); ++i) {
        if (i != 2 && i != 3) sum = static_cast<std::uint16_t>(std::rotr(sum, 1) + raw[i]);
      }
      raw[2] = static_cast<Byte>(sum);
      raw[3] = static_cast<Byte>(sum >> 8);
      out.bytes(raw);
    }
    return out.take();
  }

  void boot(std::uint32_t root) {
    Canvas b(12 * kSector);
    b.put(0, Bytes{0xEB, 0x76, 0x90});
    b.text(3, "EXFAT   ");
    b.u64(72, disk_.size() / kSector);
    b.u32(80, kTable / kSector);
    b.u32(84, 8);
    b.u32(88, kHeap / kSector);
    b.u32(92, kClusters);
    b.u32(96, root);
    b.u32(100, 0x20260301);
    b.u16(104, 0x100);
    b[108] = 9;
    b[109] = 3;
    b[110] = 1;
    b[111] = 0x80;
    b.u16(510, 0xAA55);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 11 * kSector; ++i) {
      if (i != 106 && i != 107 && i != 112) sum = std::rotr(sum, 1) + b[i];
    }
    for (std::size_t i = 0; i < kSector; i += 4) b.u32(11 * kSector + i, sum);
    Bytes region = b.take();
    disk_.put(0, region);
    disk_.put(region.size(), region);
  }

  const SampleTree& tree_;
  std::string label_;
  Canvas disk_;
  Clusters clusters_;
};

}  // namespace

Bytes make_fat(const SampleTree& tree, unsigned bits, const std::string& label) {
  return FatWriter(tree, bits, label).build();
}
Bytes make_exfat(const SampleTree& tree, const std::string& label) {
  return ExfatWriter(tree, label).build();
}

}  // namespace operculum::test
