#include "support/udf_writer.h"

#include <algorithm>
#include <map>

namespace operculum::test {
namespace {

constexpr std::size_t kStart = 288, kMetaFirst = 32, kMetaBlocks = 512, kPacket = 32, kSpareTable = 280;

std::uint16_t crc16(ByteView bytes) {
  std::uint16_t sum = 0;
  for (Byte b : bytes) {
    sum = static_cast<std::uint16_t>(sum ^ (b << 8));
    for (int i = 0; i < 8; ++i)
      sum = static_cast<std::uint16_t>((sum & 0x8000) != 0 ? (sum << 1) ^ 0x1021 : sum << 1);
  }
  return sum;
}

/// A descriptor: its tag in front of `body`.
Bytes tagged(unsigned tag, std::uint64_t location, const Bytes& body) {
  Canvas out(16);
  out.put(16, body);
  out.u16(0, tag);
  out.u16(2, 3);
  out.u16(8, crc16(body));
  out.u16(10, body.size());
  out.u32(12, location);
  unsigned sum = 0;
  for (std::size_t i = 0; i < 16; ++i) sum += i == 4 ? 0 : out[i];
  out[4] = static_cast<Byte>(sum);
  return out.take();
}

Bytes fixed_string(const std::string& text, std::size_t size) {
  Bytes out(size);
  out[0] = 8;
  std::copy(text.begin(), text.end(), out.begin() + 1);
  out[size - 1] = static_cast<Byte>(text.size() + 1);
  return out;
}

Bytes time_stamp() {
  return ByteWriter().u16(0x1000).u16(2026).u8(3).u8(1).u8(14).u8(5).u8(8).u8(0).u8(0).u8(0).take();
}

Bytes regid(std::string_view text) {
  Canvas out(32);
  out.text(1, text);
  return out.take();
}

class Writer {
 public:
  Writer(const SampleTree& tree, const UdfOptions& options)
      : tree_(tree), options_(options), sector_(options.sector), disk_(Bytes(kStart * options.sector)) {
    if (!options.base.empty()) disk_.put(0, options.base);
    if (options.partition == UdfPartition::metadata) next_ = kMetaFirst + kMetaBlocks;
  }

  Bytes build() {
    std::uint32_t file_set = new_entry();
    std::uint32_t root = new_entry();
    folder("", root, root);
    write_entry(file_set, tagged(256, file_set,
                                 ByteWriter()
                                     .bytes(time_stamp())
                                     .u16(3)
                                     .u16(3)
                                     .u32(1)
                                     .u32(1)
                                     .u32(0)
                                     .u32(0)
                                     .zeros(64)
                                     .zeros(128)
                                     .zeros(64)
                                     .zeros(32)
                                     .zeros(32)
                                     .zeros(32)
                                     .bytes(address(root, static_cast<std::uint32_t>(sector_)))
                                     .zeros(32)
                                     .zeros(48)
                                     .take()));
    if (options_.partition == UdfPartition::metadata) metadata_files();
    if (options_.partition == UdfPartition::sparable) move_packet();
    if (options_.partition == UdfPartition::virtual_table) allocation_table();
    recognition();
    std::size_t length = next_;
    for (std::size_t at : {std::size_t{200}, std::size_t{216}}) sequence(at, length, file_set);
    put(232, tagged(9, 232,
                    ByteWriter()
                        .bytes(time_stamp())
                        .u32(1)
                        .zeros(8)
                        .zeros(32)
                        .u32(1)
                        .u32(46)
                        .u32(10)
                        .u32(length)
                        .zeros(46)
                        .take()));
    ByteWriter anchor;
    anchor.u32(16 * sector_).u32(200).u32(16 * sector_).u32(216).zeros(480);
    put(256, tagged(2, 256, anchor.take()));
    Bytes out = disk_.take();
    out.resize((kStart + length) * sector_);
    return out;
  }

 private:
  void put(std::size_t sector, const Bytes& bytes) { disk_.put(sector * sector_, bytes); }

  std::uint16_t entry_partition() const {
    return options_.partition == UdfPartition::metadata || options_.partition == UdfPartition::virtual_table
               ? 1
               : 0;
  }

  Bytes address(std::uint32_t block, std::uint32_t length) const {
    return ByteWriter().u32(length).u32(block).u16(entry_partition()).zeros(6).take();
  }

  /// The number of a block for a file entry, counted as its partition counts.
  std::uint32_t new_entry(std::size_t count = 1) {
    if (options_.partition == UdfPartition::metadata) {
      std::uint32_t block = static_cast<std::uint32_t>(meta_next_);
      meta_next_ += count;
      return block;
    }
    if (options_.partition == UdfPartition::virtual_table) {
      auto first = static_cast<std::uint32_t>(table_.size());
      for (std::size_t i = 0; i < count; ++i, next_ += 2) table_.push_back(static_cast<std::uint32_t>(next_));
      return first;
    }
    auto block = static_cast<std::uint32_t>(next_);
    next_ += count;
    return block;
  }

  void write_entry(std::uint32_t block, ByteView bytes) {
    for (std::size_t at = 0; at < bytes.size(); at += sector_, ++block) {
      std::size_t place = options_.partition == UdfPartition::metadata        ? kMetaFirst + block
                          : options_.partition == UdfPartition::virtual_table ? table_[block]
                                                                              : block;
      disk_.put((kStart + place) * sector_, bytes.subspan(at, std::min(sector_, bytes.size() - at)));
    }
  }

  /// `runs`: extents of data in the plain partition, or in the entries' own.
  struct Run {
    std::size_t length;
    std::uint32_t block;
    std::uint16_t partition;
  };

  Bytes entry(std::uint32_t at, unsigned type, const SampleNode& node, std::size_t size,
              const std::vector<Run>& runs, ByteView embedded, bool is_embedded) {
    ByteWriter b;
    b.u32(0).u16(4).u16(0).u16(1).u8(0).u8(type).zeros(6).u16(is_embedded ? 3 : 1);
    std::uint32_t m = node.permissions(), rights = (m & 7) | (((m >> 3) & 7) << 5) | (((m >> 6) & 7) << 10);
    b.u32(node.user).u32(node.group).u32(rights).u16(1).u8(0).u8(0).u32(0).u64(size);
    if (options_.extended) b.u64(size);
    std::size_t blocks = 0;
    for (const Run& run : runs) blocks += (run.length + sector_ - 1) / sector_;
    b.u64(blocks).bytes(time_stamp()).bytes(time_stamp());
    if (options_.extended) b.bytes(time_stamp());
    b.bytes(time_stamp()).u32(1);
    if (options_.extended) b.u32(0);
    b.zeros(16);
    if (options_.extended) b.zeros(16);
    b.bytes(regid("*Saltmarsh")).u64(at).u32(0).u32(is_embedded ? embedded.size() : runs.size() * 16);
    if (is_embedded) b.bytes(embedded);
    for (const Run& run : runs) b.u32(run.length).u32(run.block).u16(run.partition).zeros(6);
    return tagged(options_.extended ? 266 : 261, at, b.take());
  }

  void store(std::uint32_t at, unsigned type, const SampleNode& node, ByteView data) {
    if (options_.embedded && data.size() <= sector_ - 300) {
      write_entry(at, entry(at, type, node, data.size(), {}, data, true));
      return;
    }
    std::vector<Run> runs;
    if (type == 4) {
      std::uint32_t block = new_entry((data.size() + sector_ - 1) / sector_);
      write_entry(block, data);
      runs.push_back({data.size(), block, entry_partition()});
    } else {
      std::size_t part =
          (data.size() / 2 + sector_ - 1) / sector_ * sector_;  // in two extents with a gap between them
      for (std::size_t from = 0; from < data.size(); from += part) {
        std::size_t size = std::min(part, data.size() - from);
        runs.push_back({size, static_cast<std::uint32_t>(next_), 0});
        disk_.put((kStart + next_) * sector_, data.subspan(from, size));
        next_ += (size + sector_ - 1) / sector_ + 1;
      }
    }
    write_entry(at, entry(at, type, node, data.size(), runs, {}, false));
  }

  static Bytes identifier(std::uint32_t location, const std::string& name, unsigned about,
                          const Bytes& where) {
    bool wide = name.find(' ') != std::string::npos;  // both forms are used
    ByteWriter text;
    if (!name.empty()) text.u8(wide ? 16 : 8);
    for (char c : name)
      wide ? text.u16be(static_cast<unsigned char>(c)) : text.u8(static_cast<unsigned char>(c));
    ByteWriter b;
    b.u16(1).u8(about).u8(text.size()).bytes(where).u16(0).bytes(text.view());
    while ((16 + b.size()) % 4 != 0) b.u8(0);
    return tagged(257, location, b.take());
  }

  void folder(const std::string& path, std::uint32_t own, std::uint32_t parent) {
    ByteWriter rows;
    rows.bytes(identifier(own, "", 8 | 2, address(parent, static_cast<std::uint32_t>(sector_))));
    SampleNode self{.path = path, .kind = EntryKind::folder};
    for (const SampleNode& node : tree_) {
      if (node.path == path) self = node;
    }
    for (std::size_t index : children_of(tree_, path)) {
      const SampleNode& node = tree_[index];
      std::uint32_t at = new_entry();
      bool is_folder = node.kind == EntryKind::folder;
      rows.bytes(
          identifier(own, node.name(), is_folder ? 2 : 0, address(at, static_cast<std::uint32_t>(sector_))));
      if (is_folder) {
        folder(node.path, at, own);
      } else if (node.kind == EntryKind::symbolic_link) {
        store(at, 12, node, target_of(node.target));
      } else {
        store(at, 5, node, node.data);
      }
    }
    store(own, 4, self, rows.view());
  }

  static Bytes target_of(const std::string& target) {
    ByteWriter out;
    for (std::size_t at = 0; at <= target.size();) {
      std::size_t end = std::min(target.find('/', at), target.size());
      std::string part = target.substr(at, end - at);
      if (part == "..") {
        out.u8(3).u8(0).u16(0);
      } else if (!part.empty()) {
        out.u8(5).u8(part.size() + 1).u16(0).u8(8).text(part);
      }
      at = end + 1;
    }
    return out.take();
  }

  void metadata_files() {
    for (std::uint32_t at : {0U, 1U}) {
      std::vector<Run> runs = {{kMetaBlocks * sector_, kMetaFirst, 0}};
      bool extended = options_.extended;
      options_.extended = true;
      disk_.put((kStart + at) * sector_, entry(at, 250 + at, {}, kMetaBlocks * sector_, runs, {}, false));
      options_.extended = extended;
    }
  }

  /// The packet that holds the first blocks is kept at the end; what is in its place is spoilt.
  void move_packet() {
    std::size_t size = kPacket * sector_, spare = (next_ + kPacket - 1) / kPacket * kPacket + kPacket;
    disk_.put((kStart + spare + kPacket) * sector_, Bytes(1));
    Bytes packet(disk_.part(kStart * sector_, size).begin(), disk_.part(kStart * sector_, size).end());
    disk_.put((kStart + spare) * sector_, packet);
    disk_.put(kStart * sector_, Bytes(size, 0xEE));
    next_ = spare + kPacket;
    ByteWriter t;
    t.bytes(regid("*UDF Sparing Table")).u16(1).u16(0).u32(1).u32(0).u32(kStart + spare);
    put(kSpareTable, tagged(0, kSpareTable, t.take()));
  }

  void allocation_table() {
    ByteWriter data;
    data.u16(152).u16(0).zeros(148);
    for (std::uint32_t block : table_) data.u32(block);
    std::uint32_t first = static_cast<std::uint32_t>(next_);
    disk_.put((kStart + next_) * sector_, data.view());
    next_ += (data.size() + sector_ - 1) / sector_;
    disk_.put((kStart + next_) * sector_, entry(static_cast<std::uint32_t>(next_), 248, {}, data.size(),
                                                {{data.size(), first, 0}}, {}, false));
    ++next_;
  }

  void recognition() {
    std::size_t at = 32768;
    if (!options_.base.empty()) {  // behind the ISO's own descriptors
      while (disk_.part(at + 1, 5)[0] == 'C') at += 2048;
    }
    for (const char* id : {"BEA01", "NSR03", "TEA01"}) {
      disk_.put(at, ByteWriter().u8(0).text(id).u8(1).view());
      at += std::max<std::size_t>(2048, sector_);
    }
  }

  void sequence(std::size_t at, std::size_t length, std::uint32_t file_set) {
    put(at, tagged(1, at, ByteWriter().u32(0).u32(0).bytes(fixed_string("SALTMARSH", 32)).zeros(440).take()));
    ByteWriter maps;
    maps.u8(1).u8(6).u16(1).u16(0);
    unsigned count = 1;
    if (options_.partition == UdfPartition::sparable) {
      maps = ByteWriter();
      maps.u8(2)
          .u8(64)
          .zeros(2)
          .bytes(regid("*UDF Sparable Partition"))
          .u16(1)
          .u16(0)
          .u16(kPacket)
          .u8(1)
          .u8(0)
          .u32(512)
          .u32(kSpareTable)
          .zeros(12);
    } else if (options_.partition == UdfPartition::metadata) {
      maps.u8(2)
          .u8(64)
          .zeros(2)
          .bytes(regid("*UDF Metadata Partition"))
          .u16(1)
          .u16(0)
          .u32(0)
          .u32(1)
          .u32(0xFFFFFFFF)
          .u32(32)
          .u16(1)
          .u8(1)
          .zeros(5);
      ++count;
    } else if (options_.partition == UdfPartition::virtual_table) {
      maps.u8(2).u8(64).zeros(2).bytes(regid("*UDF Virtual Partition")).u16(1).u16(0).zeros(24);
      ++count;
    }
    Canvas domain(32);
    domain.text(1, "*OSTA UDF Compliant");
    domain.u16(24, options_.extended ? 0x0250 : 0x0102);
    ByteWriter logical;
    logical.u32(1).zeros(64).bytes(fixed_string("tide pool", 128)).u32(sector_).bytes(domain.take());
    logical.bytes(address(file_set, static_cast<std::uint32_t>(sector_)))
        .u32(maps.size())
        .u32(count)
        .zeros(32)
        .zeros(128)
        .u32(sector_)
        .u32(232)
        .bytes(maps.view());
    put(at + 1, tagged(6, at + 1, logical.take()));
    put(at + 2, tagged(5, at + 2,
                       ByteWriter()
                           .u32(2)
                           .u16(1)
                           .u16(0)
                           .bytes(regid("+NSR03"))
                           .zeros(128)
                           .u32(1)
                           .u32(kStart)
                           .u32(length)
                           .zeros(316)
                           .take()));
    put(at + 3, tagged(8, at + 3, Bytes(496)));
  }

  const SampleTree& tree_;
  UdfOptions options_;
  std::size_t sector_;
  Canvas disk_;
  std::size_t next_ = 0, meta_next_ = 0;
  std::vector<std::uint32_t> table_;
};

}  // namespace

Bytes make_udf(const SampleTree& tree, const UdfOptions& options) {
  return Writer(tree, options).build();
}

}  // namespace operculum::test
