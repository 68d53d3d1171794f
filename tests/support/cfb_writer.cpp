#include "support/cfb_writer.h"

#include <algorithm>

#include "base/cursor.h"
#include "support/byte_writer.h"

namespace operculum::test {
namespace {

constexpr std::uint32_t kEnd = 0xFFFFFFFE, kFree = 0xFFFFFFFF, kTable = 0xFFFFFFFD, kList = 0xFFFFFFFC,
                        kNone = 0xFFFFFFFF;
constexpr std::size_t kShort = 64, kCutoff = 4096, kInHeader = 109;

/// Sectors one after another, with their chains.
class Sectors {
 public:
  explicit Sectors(std::size_t size) : size_(size) {}
  std::uint32_t add(ByteView data) {
    if (data.empty()) return kEnd;
    auto first = static_cast<std::uint32_t>(next_.size());
    bytes_.bytes(data).align(size_);
    while (next_.size() < bytes_.size() / size_)
      next_.push_back(static_cast<std::uint32_t>(next_.size() + 1));
    next_.back() = kEnd;
    return first;
  }
  std::vector<std::uint32_t>& chains() { return next_; }
  ByteWriter& bytes() { return bytes_; }

 private:
  std::size_t size_;
  ByteWriter bytes_;
  std::vector<std::uint32_t> next_;
};

/// The order of names in a storage: shorter ones first.
bool before(const std::u16string& a, const std::u16string& b) {
  return a.size() != b.size() ? a.size() < b.size() : a < b;
}

Bytes numbers(const std::vector<std::uint32_t>& values) {
  ByteWriter out;
  for (std::uint32_t value : values) out.u32(value);
  return out.take();
}

}  // namespace

Bytes make_cfb(const std::vector<CfbNode>& nodes, unsigned version, Bytes class_id) {
  const std::size_t sector = version == 4 ? 4096 : 512;
  Sectors large(sector), small(kShort);
  std::vector<std::uint32_t> starts, left(nodes.size() + 1, kNone), right = left, child = left;
  for (const CfbNode& node : nodes)
    starts.push_back(node.storage ? 0 : (node.data.size() < kCutoff ? small : large).add(node.data));
  Bytes short_bytes = small.bytes().take();
  std::uint32_t short_start = large.add(short_bytes);
  std::uint32_t short_table = large.add(numbers(small.chains()));

  // A balanced tree of the names in each storage.
  for (std::size_t storage = 0; storage <= nodes.size(); ++storage) {
    std::vector<std::uint32_t> inside;
    for (std::size_t i = 0; i < nodes.size(); ++i) {
      std::size_t parent = nodes[i].parent == SIZE_MAX ? 0 : nodes[i].parent + 1;
      if (parent == storage) inside.push_back(static_cast<std::uint32_t>(i + 1));
    }
    std::sort(inside.begin(), inside.end(),
              [&](std::uint32_t a, std::uint32_t b) { return before(nodes[a - 1].name, nodes[b - 1].name); });
    auto build = [&](auto& self, std::size_t from, std::size_t to) -> std::uint32_t {
      if (from == to) return kNone;
      std::size_t middle = (from + to) / 2;
      std::uint32_t id = inside[middle];
      left[id] = self(self, from, middle);
      right[id] = self(self, middle + 1, to);
      return id;
    };
    child[storage] = build(build, 0, inside.size());
  }
  ByteWriter directory;
  auto entry = [&](const std::u16string& name, unsigned type, std::size_t id, std::uint32_t start,
                   std::size_t size, const Bytes& own_class) {
    std::size_t begin = directory.size();
    for (char16_t unit : name) directory.u16(unit);
    directory.zeros(64 - (directory.size() - begin));
    directory.u16((name.size() + 1) * 2).u8(type).u8(1).u32(left[id]).u32(right[id]).u32(child[id]);
    directory.bytes(own_class).u32(0).u64(0).u64(0x01DC00000000000).u32(start).u64(size);
  };
  entry(u"Root Entry", 5, 0, short_start, short_bytes.size(), class_id);
  for (std::size_t i = 0; i < nodes.size(); ++i)
    entry(nodes[i].name, nodes[i].storage ? 1 : 2, i + 1, starts[i], nodes[i].data.size(), Bytes(16));
  while (directory.size() % sector != 0) {
    directory.zeros(66).u8(0).u8(0).u32(kNone).u32(kNone).u32(kNone).zeros(48);
  }
  std::size_t directory_sectors = directory.size() / sector;
  std::uint32_t directory_start = large.add(directory.view());

  // The table of chains, and the list of its sectors where the header has no room for it.
  std::size_t per_sector = sector / 4, tables = 0, lists = 0;
  for (;;) {
    std::size_t all = large.chains().size() + tables + lists;
    std::size_t need = (all + per_sector - 1) / per_sector;
    std::size_t need_lists = need <= kInHeader ? 0 : (need - kInHeader + per_sector - 2) / (per_sector - 1);
    if (need == tables && need_lists == lists) break;
    tables = need;
    lists = need_lists;
  }
  auto first_table = static_cast<std::uint32_t>(large.chains().size());
  auto first_list = static_cast<std::uint32_t>(first_table + tables);
  std::vector<std::uint32_t> chains = large.chains();
  chains.insert(chains.end(), tables, kTable);
  chains.insert(chains.end(), lists, kList);
  chains.resize(tables * per_sector, kFree);
  large.bytes().bytes(numbers(chains));
  for (std::size_t list = 0; list < lists; ++list) {
    for (std::size_t i = 0; i + 1 < per_sector; ++i) {
      std::size_t table = kInHeader + list * (per_sector - 1) + i;
      large.bytes().u32(table < tables ? first_table + table : kFree);
    }
    large.bytes().u32(list + 1 < lists ? first_list + list + 1 : kEnd);
  }

  ByteWriter out;
  out.u64(0xE11AB1A1E011CFD0)
      .zeros(16)
      .u16(0x3E)
      .u16(version)
      .u16(0xFFFE)
      .u16(version == 4 ? 12 : 9)
      .u16(6)
      .zeros(6);
  out.u32(version == 4 ? directory_sectors : 0).u32(tables).u32(directory_start).u32(0).u32(kCutoff);
  out.u32(short_table)
      .u32(small.chains().empty() ? 0 : (small.chains().size() + per_sector - 1) / per_sector);
  out.u32(lists == 0 ? kEnd : first_list).u32(lists);
  for (std::size_t i = 0; i < kInHeader; ++i) out.u32(i < tables ? first_table + i : kFree);
  return out.align(sector).bytes(large.bytes().view()).take();
}

namespace {

/// Reads the directory by itself, so that a mistake of the program is not made again here.
class TreeCheck {
 public:
  explicit TreeCheck(const Bytes& file) : file_(file) {
    sector_ = std::size_t{1} << file[30];
    std::uint32_t at = u32(48);
    while (at < 0xFFFFFFFA && directory_.size() < file.size()) {
      auto begin = file.begin() + static_cast<std::ptrdiff_t>((at + 1) * sector_);
      directory_.insert(directory_.end(), begin, begin + static_cast<std::ptrdiff_t>(sector_));
      at = next(at);
    }
  }

  std::string run() {
    for (std::uint32_t id = 0; id < directory_.size() / 128; ++id) {
      Byte type = directory_[id * 128 + 66];
      if (type == 1 || type == 5) black_ways(number(id, 76), false, {}, {});
    }
    return wrong_;
  }

 private:
  std::uint32_t u32(std::size_t at) const { return load_little<std::uint32_t>(file_.data() + at); }
  std::uint32_t number(std::uint32_t id, std::size_t at) const {
    return load_little<std::uint32_t>(directory_.data() + id * 128 + at);
  }
  std::uint32_t next(std::uint32_t sector) const {
    std::size_t rows = sector_ / 4, table = sector / rows;
    std::uint32_t list = u32(68);
    std::size_t place = 76 + table * 4;
    if (table >= 109) {
      std::size_t behind = table - 109;
      for (; behind >= rows - 1; behind -= rows - 1) list = u32((list + 1) * sector_ + sector_ - 4);
      place = (list + 1) * sector_ + behind * 4;
    }
    return u32((u32(place) + 1) * sector_ + sector % rows * 4);
  }
  std::string name(std::uint32_t id) const {
    std::string out;
    std::size_t length = directory_[id * 128 + 64] / 2 - 1;
    for (std::size_t i = 0; i < length; ++i) {
      Byte one = directory_[id * 128 + i * 2];
      out.push_back(static_cast<char>(one >= 'a' && one <= 'z' ? one - 32 : one));
    }
    return out;
  }
  static bool is_before(const std::string& a, const std::string& b) {
    return a.size() != b.size() ? a.size() < b.size() : a < b;
  }

  int black_ways(std::uint32_t id, bool below_red, const std::string& low, const std::string& high) {
    if (id == 0xFFFFFFFF) return 1;
    std::string own = name(id);
    if (!low.empty() && !is_before(low, own)) wrong_ += own + " lies behind " + low + "\n";
    if (!high.empty() && !is_before(own, high)) wrong_ += own + " lies in front of " + high + "\n";
    bool red = directory_[id * 128 + 67] == 0;
    if (red && below_red) wrong_ += own + " is red below a red one\n";
    int left = black_ways(number(id, 68), red, low, own), right = black_ways(number(id, 72), red, own, high);
    if (left != right) wrong_ += own + " has ways of different lengths below it\n";
    return left + (red ? 0 : 1);
  }

  const Bytes& file_;
  std::size_t sector_;
  Bytes directory_;
  std::string wrong_;
};

}  // namespace

std::string check_search_trees(const Bytes& file) {
  return TreeCheck(file).run();
}

}  // namespace operculum::test
