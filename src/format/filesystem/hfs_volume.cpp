#include "format/filesystem/hfs_volume.h"

#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "base/checked.h"
#include "io/cached_source.h"

namespace operculum::hfs {
namespace {

constexpr std::uint64_t kHeaderAt = 1024;
constexpr std::uint16_t kPlus = 0x482B, kExtended = 0x4858, kWrapper = 0x4244;
constexpr std::uint32_t kExtentsFile = 3, kCatalogFile = 4, kAttributesFile = 8;
constexpr std::size_t kDescriptor = 14;
constexpr int kMostLevels = 32;

}  // namespace

Timestamp time_of(std::uint32_t seconds) {
  constexpr std::int64_t kFrom1904 = 2082844800;
  return seconds == 0 ? Timestamp{} : from_unix(std::int64_t{seconds} - kFrom1904);
}

void read_extents(const BigFields& f, std::size_t at, Fork& out) {
  for (std::size_t i = 0; i < kExtentsBytes; i += 8) {
    std::uint32_t first = f.u32(at + i), count = f.u32(at + i + 4);
    if (count == 0) break;
    out.extents.emplace_back(first, count);
  }
}

Fork read_fork(const BigFields& f, std::size_t at) {
  Fork fork;
  fork.size = f.u64(at);
  fork.blocks = f.u32(at + 12);
  read_extents(f, at + 16, fork);
  return fork;
}

Header read_header(ByteView raw) {
  BigFields f(raw, "HFS+ volume header", kHeaderAt);
  if (f.u16(0) != kPlus && f.u16(0) != kExtended)
    throw Malformed("HFS+ volume header: the signature is missing");
  Header h;
  h.extended = f.u16(0) == kExtended;
  constexpr std::uint32_t kUnmounted = 1 << 8, kInconsistent = 1 << 11, kJournaled = 1 << 13;
  h.clean = (f.u32(4) & kUnmounted) != 0 && (f.u32(4) & kInconsistent) == 0;
  h.journaled = (f.u32(4) & kJournaled) != 0;
  h.made = time_of(f.u32(16));
  h.made.floating = h.made.known();  // in local time
  h.modified = time_of(f.u32(20));
  h.files = f.u32(32);
  h.folders = f.u32(36);
  h.block = f.u32(40);
  h.blocks = f.u32(44);
  h.free_blocks = f.u32(48);
  if (h.block < 512 || (h.block & (h.block - 1)) != 0 || h.block > (16 << 20) || h.blocks == 0)
    throw Malformed(fmt::format(
        "HFS+ volume header: expected blocks of 512 bytes to 16 MiB, a power of two, and some of them, "
        "found {} of {} bytes",
        h.blocks, h.block));
  h.extents = read_fork(f, 192);
  h.catalog = read_fork(f, 272);
  h.attributes = read_fork(f, 352);
  return h;
}

// ---- B-trees

Tree::Tree(SourcePtr file, std::string_view what) : file_(std::move(file)), what_(what) {
  Bytes raw = read_exactly(*file_, 0, kDescriptor + 106, what_);
  BigFields f(raw, what_);
  root_ = f.u32(16);
  first_leaf_ = f.u32(24);
  node_size_ = f.u16(32);
  nodes_ = f.u32(36);
  if (node_size_ < 512 || node_size_ > 32768 || (node_size_ & (node_size_ - 1)) != 0)
    throw Malformed(fmt::format("{}: nodes of {} bytes are not possible", what_, node_size_));
  nodes_ = static_cast<std::uint32_t>(std::min<std::uint64_t>(nodes_, file_->size() / node_size_));
}

Bytes Tree::node(std::uint32_t number) const {
  if (number >= nodes_) throw Malformed(fmt::format("{}: node {} is not one of {}", what_, number, nodes_));
  return read_exactly(*file_, number * node_size_, node_size_, what_);
}

LeafRecord Tree::record(ByteView node, unsigned index) const {
  BigFields f(node, what_);
  std::size_t begin = f.u16(node.size() - 2 * (index + 1)), end = f.u16(node.size() - 2 * (index + 2));
  if (begin < kDescriptor || end <= begin || end > node.size())
    throw Malformed(fmt::format("{}: a record's place in its node makes no sense", what_));
  BigFields all(node.subspan(begin, end - begin), what_);
  std::size_t key = all.u16(0), data = (2 + key + 1) / 2 * 2;
  return {BigFields(all.bytes(2, key), what_), all.from(data)};
}

void Tree::at(std::uint64_t place, const std::function<void(const LeafRecord&)>& take) const {
  Bytes raw = node(static_cast<std::uint32_t>(place >> 16));
  take(record(raw, static_cast<unsigned>(place & 0xFFFF)));
}

void Tree::from(const Before& before, const std::function<bool(const LeafRecord&)>& take) const {
  constexpr std::int8_t kLeaf = -1, kIndex = 0;
  if (root_ == 0) return;
  std::uint32_t number = root_;
  Bytes raw = node(number);
  for (int level = 0; static_cast<std::int8_t>(raw[8]) != kLeaf; ++level) {
    if (static_cast<std::int8_t>(raw[8]) != kIndex || level > kMostLevels)
      throw Malformed(fmt::format("{}: node {} is of the wrong kind", what_, number));
    unsigned count = BigFields(raw, what_).u16(10);
    std::uint32_t child = 0;
    for (unsigned i = 0; i < count; ++i) {  // the last child whose first key is not behind
      LeafRecord one = record(raw, i);
      if (i > 0 && !before(one.key)) break;
      child = one.data.u32(0);
    }
    number = child;
    raw = node(number);
  }
  for (std::uint32_t visited = 0;; ++visited) {
    if (visited > nodes_) throw Malformed(fmt::format("{}: its leaves form a loop", what_));
    BigFields f(raw, what_);
    for (unsigned i = 0, count = f.u16(10); i < count; ++i) {
      LeafRecord one = record(raw, i);
      one.place = (std::uint64_t{number} << 16) | i;
      if (!before(one.key) && !take(one)) return;
    }
    number = f.u32(0);
    if (number == 0) return;
    raw = node(number);
    if (static_cast<std::int8_t>(raw[8]) != kLeaf)
      throw Malformed(fmt::format("{}: node {} is of the wrong kind", what_, number));
  }
}

// ---- volume

Volume::Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report)
    : image_(std::move(image)) {
  Bytes raw = read_exactly(*image_, kHeaderAt, 512, "HFS+ volume header");
  BigFields f(raw, "HFS wrapper", kHeaderAt);
  if (f.u16(0) == kWrapper && f.u16(124) == kPlus) {  // within an older volume
    std::uint64_t block = f.u32(20), at = f.u16(28) * std::uint64_t{512} + f.u16(126) * block;
    image_ = make_slice(image_, at, f.u16(128) * block);
    raw = read_exactly(*image_, kHeaderAt, 512, "HFS+ volume header");
  }
  try {
    header_ = read_header(raw);
  } catch (const Malformed& error) {
    std::uint64_t at = image_->size() < kHeaderAt ? 0 : image_->size() - kHeaderAt;
    header_ = read_header(read_exactly(*image_, at, 512, "HFS+ backup volume header"));
    report(Finding::Level::fault,
           fmt::format("the volume header is damaged ({}); its backup at the end was used", error.what()));
  }
  if (header_.extents.size > 0)
    overflow_.emplace(make_cached(fork(header_.extents, kExtentsFile, ForkKind::data)), "HFS+ extents tree");
  catalog_.emplace(make_cached(fork(header_.catalog, kCatalogFile, ForkKind::data)), "HFS+ catalog");
  if (header_.attributes.size > 0)
    attributes_.emplace(make_cached(fork(header_.attributes, kAttributesFile, ForkKind::data)),
                        "HFS+ attributes tree");
}

SourcePtr Volume::fork(const Fork& fork, std::uint32_t file, ForkKind kind) const {
  Fork all = fork;
  std::uint64_t known = 0;
  for (auto [first, count] : all.extents) known += count;
  if (known < fork.blocks && overflow_) {
    auto order = [&](const BigFields& key) {  // fork kind, file, first block
      return std::tuple(key.u32(2), key.u8(0), std::uint64_t{key.u32(6)});
    };
    auto wanted = std::tuple(file, static_cast<std::uint8_t>(kind), known);
    overflow_->from([&](const BigFields& key) { return order(key) < wanted; },
                    [&](const LeafRecord& record) {
                      if (order(record.key) != std::tuple(file, static_cast<std::uint8_t>(kind), known))
                        return false;
                      std::size_t before = all.extents.size();
                      read_extents(record.data, 0, all);
                      for (std::size_t i = before; i < all.extents.size(); ++i)
                        known += all.extents[i].second;
                      return known < fork.blocks && all.extents.size() > before;
                    });
  }
  std::vector<Extent> extents;
  std::uint64_t logical = 0;
  for (auto [first, count] : all.extents) {
    if (logical >= fork.size) break;
    if (first + count > header_.blocks)
      throw Malformed(fmt::format("HFS+ file {}: blocks {} to {} are not all among the volume's {}", file,
                                  first, first + count, header_.blocks));
    std::uint64_t length = std::min(count * header_.block, fork.size - logical);
    extents.push_back({logical, first * header_.block, length});
    logical += length;
  }
  if (logical < fork.size)
    throw Malformed(fmt::format("HFS+ file {}: its extents hold {} of {} bytes", file, logical, fork.size));
  return make_extent_source(image_, std::move(extents), fork.size);
}

}  // namespace operculum::hfs
