#include "support/iso_writer.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "support/block_packer.h"

namespace operculum::test {
namespace {

constexpr std::size_t kSector = 2048;
constexpr Byte kDate[7] = {126, 3, 1, 14, 5, 8, 0};

std::size_t sectors(std::size_t bytes) {
  return (bytes + kSector - 1) / kSector;
}

ByteWriter& both16(ByteWriter& w, std::uint64_t v) {
  return w.u16(v).u16be(v);
}
ByteWriter& both32(ByteWriter& w, std::uint64_t v) {
  return w.u32(v).u32be(v);
}

struct FilePlace {
  std::uint64_t extent = 0;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> parts;  // extent and size, for a file in parts
  std::uint64_t size = 0;
};

enum class Tree { plain, joliet };

class Writer {
 public:
  Writer(const SampleTree& tree, const IsoOptions& options) : tree_(tree), options_(options) {
    for (const SampleNode& node : tree_) {
      std::string name = node.name(), stem = fmt::format("N{:05}", short_names_.size());
      short_names_[node.path] = node.kind == EntryKind::folder ? stem : stem + ".BIN;1";
    }
  }

  Bytes build() {
    next_ = 16 + 4;  // volume descriptors
    std::size_t catalog = next_++, path_table = next_++, joliet_table = next_++;
    continuation_at_ = next_;
    next_ += 16;
    for (Tree kind : {Tree::plain, Tree::joliet}) {
      place_folders(kind, "");
    }
    for (const SampleNode& node : tree_) {
      if (node.kind == EntryKind::file) place_file(node);
    }
    std::size_t boot = next_;
    next_ += sectors(options_.boot.size());
    write_folder(Tree::plain, "", "");
    if (options_.joliet) write_folder(Tree::joliet, "", "");
    image_.put(continuation_at_ * kSector, continuation_);
    image_.put(path_table * kSector, path_table_of(Tree::plain));
    image_.put(joliet_table * kSector, path_table_of(Tree::joliet));
    descriptor(16, 1, path_table);
    std::size_t at = 17;
    if (!options_.boot.empty()) {
      ByteWriter b;
      b.u8(0).text("CD001").u8(1).text("EL TORITO SPECIFICATION").zeros(9 + 32).u32(catalog);
      image_.put(at++ * kSector, b.view());
      ByteWriter c;
      c.u8(1).u8(0).u16(0).text("saltmarsh point").zeros(9).u16(0).u8(0x55).u8(0xAA);
      c.u8(0x88).u8(0).u16(0).u8(0).u8(0).u16(options_.boot.size() / 512).u32(boot).zeros(20);
      image_.put(catalog * kSector, c.view());
      image_.put(boot * kSector, options_.boot);
    }
    if (options_.joliet) descriptor(at++, 2, joliet_table);
    image_.put(at * kSector, ByteWriter().u8(255).text("CD001").u8(1).view());
    Bytes out = image_.take();
    out.resize(next_ * kSector);
    return out;
  }

 private:
  struct FolderPlace {
    std::uint64_t extent = 0, size = 0;
  };
  using Key = std::pair<Tree, std::string>;

  bool moved(const std::string& path) const {
    return !options_.relocated.empty() && path == options_.relocated;
  }

  std::vector<std::size_t> rows_of(Tree kind, const std::string& path) const {
    std::vector<std::size_t> rows = children_of(tree_, path);
    if (kind == Tree::plain && path.empty()) {
      for (std::size_t i = 0; i < tree_.size(); ++i) {
        if (moved(tree_[i].path)) rows.push_back(i);
      }
    }
    return rows;
  }

  void place_folders(Tree kind, const std::string& path) {
    std::size_t size = 2 * 254;
    for (std::size_t row : rows_of(kind, path)) size += 254 + tree_[row].name().size();
    size = sectors(size + size / 4) * kSector;  // records do not cross sectors
    folders_[{kind, path}] = {next_, size};
    next_ += size / kSector;
    for (std::size_t child : children_of(tree_, path)) {
      if (tree_[child].kind == EntryKind::folder) place_folders(kind, tree_[child].path);
    }
  }

  void place_file(const SampleNode& node) {
    Bytes stored = node.data;
    if (node.path == options_.packed) stored = zisofs(node.data);
    if (node.path == options_.sparse) stored = with_holes(node.data);
    FilePlace place{next_, {}, stored.size()};
    if (node.path == options_.in_parts) {
      std::size_t part = sectors(stored.size() / 3) * kSector;
      for (std::size_t at = 0; at < stored.size(); at += part) {
        std::size_t size = std::min(part, stored.size() - at);
        place.parts.emplace_back(next_, size);
        image_.put(next_ * kSector, ByteView(stored).subspan(at, size));
        next_ += sectors(size) + 1;
      }
    } else {
      image_.put(next_ * kSector, stored);
      next_ += std::max<std::size_t>(sectors(stored.size()), 1);
    }
    files_[node.path] = place;
  }

  static Bytes zisofs(ByteView data) {
    constexpr std::size_t kBlock = 32768;
    ByteWriter packed, pointers;
    std::size_t count = (data.size() + kBlock - 1) / kBlock, begin = 16 + (count + 1) * 4;
    for (std::size_t at = 0; at < data.size(); at += kBlock) {
      pointers.u32(begin + packed.size());
      packed.bytes(pack_block(BlockCodec::zlib, data.subspan(at, std::min(kBlock, data.size() - at))));
    }
    pointers.u32(begin + packed.size());
    ByteWriter out;
    out.bytes(Bytes{0x37, 0xE4, 0x53, 0x96, 0xC9, 0xDB, 0xD6, 0x07}).u32(data.size()).u8(4).u8(15).u16(0);
    return out.bytes(pointers.view()).bytes(packed.view()).take();
  }

  /// A table of 256 numbers, then the blocks that are not zeros.
  static Bytes with_holes(ByteView data) {
    Canvas table(kSector);
    ByteWriter blocks;
    for (std::size_t i = 0; i * kSector < data.size(); ++i) {
      ByteView part = data.subspan(i * kSector, std::min(kSector, data.size() - i * kSector));
      if (std::all_of(part.begin(), part.end(), [](Byte b) { return b == 0; })) continue;
      table.u32(i * 8, (1 + blocks.size() / kSector) | (1U << 31));
      blocks.bytes(part).align(kSector);
    }
    return ByteWriter().bytes(table.take()).bytes(blocks.view()).take();
  }

  // ---- Rock Ridge

  Bytes fields(const SampleNode& node) {
    ByteWriter out;
    unsigned type = node.kind == EntryKind::folder          ? 040000
                    : node.kind == EntryKind::symbolic_link ? 0120000
                                                            : 0100000;
    out.text("PX").u8(36).u8(1);
    both32(out, type | node.permissions());
    both32(out, 1);
    both32(out, node.user);
    both32(out, node.group);
    out.text("TF").u8(5 + 7).u8(1).u8(2).bytes(kDate);
    name_field(out, node.name());
    if (node.kind == EntryKind::symbolic_link) target_fields(out, node.target);
    if (node.path == options_.packed) {
      out.text("ZF").u8(16).u8(1).text("pz").u8(4).u8(15);
      both32(out, node.data.size());
    }
    if (node.path == options_.sparse) {
      out.text("SF").u8(21).u8(1);
      both32(out, 0);
      both32(out, node.data.size());
      out.u8(1);
    }
    return out.take();
  }

  static void name_field(ByteWriter& out, const std::string& name) {
    for (std::size_t at = 0; at < name.size(); at += 200) {
      std::string part = name.substr(at, 200);
      out.text("NM").u8(5 + part.size()).u8(1).u8(at + 200 < name.size() ? 1 : 0).text(part);
    }
  }

  static void target_fields(ByteWriter& out, const std::string& target) {
    for (std::size_t at = 0; at <= target.size();) {
      std::size_t end = std::min(target.find('/', at), target.size());
      std::string part = target.substr(at, end - at);
      bool last = end == target.size(), root = part.empty() && at == 0;
      unsigned flags = part == ".." ? 4 : part == "." ? 2 : root ? 8 : 0;
      std::string text = flags == 0 ? part : "";
      out.text("SL").u8(5 + 2 + text.size()).u8(1).u8(last ? 0 : 1).u8(flags).u8(text.size()).text(text);
      at = end + 1;
    }
  }

  /// What does not fit into a record goes on elsewhere.
  Bytes fitted(Bytes all, std::size_t room) {
    if (all.size() <= room) return all;
    std::size_t cut = 0;
    while (cut + all[cut + 2] + 28 <= room) cut += all[cut + 2];
    ByteWriter out;
    out.bytes(ByteView(all).first(cut)).text("CE").u8(28).u8(1);
    both32(out, continuation_at_ + continuation_.size() / kSector);
    both32(out, continuation_.size() % kSector);
    both32(out, all.size() - cut);
    continuation_.insert(continuation_.end(), all.begin() + static_cast<std::ptrdiff_t>(cut), all.end());
    return out.take();
  }

  // ---- records

  Bytes record(std::uint64_t extent, std::uint64_t size, unsigned flags, const Bytes& name,
               const Bytes& area) {
    ByteWriter r;
    std::size_t length = 33 + name.size() + (name.size() % 2 == 0 ? 1 : 0) + area.size();
    length += length % 2;
    r.u8(length).u8(0);
    both32(r, extent);
    both32(r, size);
    r.bytes(kDate).u8(flags).u8(0).u8(0);
    both16(r, 1);
    r.u8(name.size()).bytes(name);
    if (name.size() % 2 == 0) r.u8(0);
    return r.bytes(area).align(2).take();
  }

  Bytes name_of(Tree kind, const SampleNode& node) const {
    if (kind == Tree::plain) return to_bytes(short_names_.at(node.path));
    ByteWriter w;
    for (char c : node.name()) w.u16be(static_cast<unsigned char>(c));
    return w.take();
  }

  void write_folder(Tree kind, const std::string& path, const std::string& parent) {
    Bytes data;
    auto add = [&](const Bytes& one) {
      std::size_t left = kSector - data.size() % kSector;
      if (left < one.size()) data.resize(data.size() + left);
      data.insert(data.end(), one.begin(), one.end());
    };
    bool ridge = kind == Tree::plain && options_.rock_ridge;
    FolderPlace own = folders_[{kind, path}], above = folders_[{kind, parent}];
    Bytes sharing;
    if (ridge && path.empty()) sharing = ByteWriter().text("SP").u8(7).u8(1).u8(0xBE).u8(0xEF).u8(0).take();
    if (ridge) {
      SampleNode self{.path = "", .kind = EntryKind::folder};
      ByteWriter px;
      px.text("PX").u8(36).u8(1);
      both32(px, 040755);
      both32(px, 2);
      both32(px, 0);
      both32(px, 0);
      sharing.insert(sharing.end(), px.view().begin(), px.view().end());
    }
    add(record(own.extent, own.size, 2, {0}, sharing));
    add(record(above.extent, above.size, 2, {1}, {}));
    for (std::size_t row : rows_of(kind, path)) {
      const SampleNode& node = tree_[row];
      Bytes name = name_of(kind, node);
      if (kind == Tree::joliet && node.kind == EntryKind::symbolic_link) continue;
      Bytes area;
      if (ridge) {
        area = fields(node);
        bool here = node.parent() == path;
        if (moved(node.path) && here) {
          ByteWriter w;
          w.text("CL").u8(12).u8(1);
          both32(w, folders_[{kind, node.path}].extent);
          area.insert(area.end(), w.view().begin(), w.view().end());
        } else if (moved(node.path)) {
          area.insert(area.end(), {'R', 'E', 4, 1});
        }
        area = fitted(area, 254 - 34 - name.size());
      }
      if (node.kind == EntryKind::folder) {
        FolderPlace place = folders_[{kind, node.path}];
        bool link = ridge && moved(node.path) && node.parent() == path;
        add(link ? record(files_.begin()->second.extent, 0, 0, name, area)
                 : record(place.extent, place.size, 2, name, area));
        if (node.parent() == path) write_folder(kind, node.path, path);
        continue;
      }
      FilePlace place = files_[node.path];
      if (place.parts.empty()) {
        std::uint64_t size = node.kind == EntryKind::file ? place.size : 0;
        add(record(place.extent, size, 0, name, area));
      }
      for (std::size_t i = 0; i < place.parts.size(); ++i)
        add(record(place.parts[i].first, place.parts[i].second, i + 1 < place.parts.size() ? 0x80 : 0, name,
                   area));
    }
    data.resize(own.size);
    image_.put(own.extent * kSector, data);
  }

  Bytes path_table_of(Tree kind) {
    struct Row {
      std::string path;
      std::size_t parent;
    };
    std::vector<Row> rows = {{"", 1}};
    for (std::size_t i = 0; i < rows.size(); ++i) {
      std::string path = rows[i].path;
      for (std::size_t child : children_of(tree_, path)) {
        if (tree_[child].kind == EntryKind::folder) rows.push_back({tree_[child].path, i + 1});
      }
    }
    ByteWriter out;
    for (const Row& row : rows) {
      Bytes name = {0};
      for (const SampleNode& node : tree_) {
        if (node.path == row.path) name = name_of(kind, node);
      }
      out.u8(name.size()).u8(0).u32(folders_[{kind, row.path}].extent).u16(row.parent).bytes(name);
      if (name.size() % 2 != 0) out.u8(0);
    }
    (kind == Tree::plain ? table_size_ : joliet_table_size_) = out.size();
    return out.take();
  }

  void descriptor(std::size_t at, unsigned type, std::size_t path_table) {
    Tree kind = type == 1 ? Tree::plain : Tree::joliet;
    FolderPlace root = folders_[{kind, ""}];
    ByteWriter d;
    d.u8(type).text("CD001").u8(1).u8(0).text(std::string(32, ' '));
    d.text(fmt::format("{:<32}", "SALTMARSH"));
    d.zeros(8);
    both32(d, next_);
    if (type == 2) d.text("%/E").zeros(29);
    if (type == 1) d.zeros(32);
    both16(d, 1);
    both16(d, 1);
    both16(d, kSector);
    both32(d, type == 1 ? table_size_ : joliet_table_size_);
    d.u32(path_table).u32(0).u32be(0).u32be(0);
    d.bytes(record(root.extent, root.size, 2, {0}, {}));
    d.text(std::string(128, ' '))
        .text(fmt::format("{:<128}", "SALTMARSH POINT"))
        .text(std::string(128, ' '))
        .text(std::string(128, ' '));
    d.text(std::string(37 * 3, ' ')).text("2026030114050800").u8(0).text("2026030114050800").u8(0);
    image_.put(at * kSector, d.view());
  }

  const SampleTree& tree_;
  IsoOptions options_;
  Canvas image_{Bytes(20 * kSector)};
  std::map<std::string, std::string> short_names_;
  std::map<Key, FolderPlace> folders_;
  std::map<std::string, FilePlace> files_;
  Bytes continuation_;
  std::size_t next_ = 0, continuation_at_ = 0, table_size_ = 0, joliet_table_size_ = 0;
};

}  // namespace

Bytes make_iso(const SampleTree& tree, const IsoOptions& options) {
  return Writer(tree, options).build();
}

}  // namespace operculum::test
