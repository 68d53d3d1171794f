#include "format/filesystem/hfs_volume.h"

#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "base/checked.h"
#include "io/cached_source.h"

namespace operculum::hfs {
namespace {

constexpr std::uint32_t kExtentsFile = 3, kCatalogFile = 4, kAttributesFile = 8;
constexpr std::size_t kDescriptor = size_on_disk<NodeDescriptor>;
constexpr int kMostLevels = 32;

}  // namespace

Timestamp time_of(std::uint32_t seconds) {
  constexpr std::int64_t kFrom1904 = 2082844800;
  return seconds == 0 ? Timestamp{} : from_unix(std::int64_t{seconds} - kFrom1904);
}

void read_extents(const BigFields& f, std::size_t at, Fork& out) {
  for (std::size_t i = 0; i < extents_in_record; ++i) {
    auto extent = structure_at<ExtentDescriptor>(f, at + i * size_on_disk<ExtentDescriptor>);
    if (extent.block_count == 0) break;
    out.extents.emplace_back(extent.start_block, extent.block_count);
  }
}

Fork read_fork(const BigFields& f, std::size_t at) {
  auto data = structure_at<ForkData>(f, at);
  Fork fork;
  fork.size = data.logical_size;
  fork.blocks = data.total_blocks;
  read_extents(f, at + size_on_disk<ForkData>, fork);
  return fork;
}

Header read_header(ByteView raw) {
  BigFields f(raw, "HFS+ volume header", header_at);
  auto stored = structure_at<VolumeHeader>(f, 0);
  if (stored.signature != kPlusSignature && stored.signature != kExtendedSignature)
    throw Malformed("HFS+ volume header: the signature is missing");
  Header h;
  h.extended = stored.signature == kExtendedSignature;
  h.version = stored.version;
  h.clean =
      (stored.attributes & volume_unmounted) != 0 && (stored.attributes & boot_volume_inconsistent) == 0;
  h.journaled = (stored.attributes & volume_journaled) != 0;
  h.made = time_of(stored.created);
  h.made.floating = h.made.known();  // in local time
  h.modified = time_of(stored.modified);
  h.files = stored.file_count;
  h.folders = stored.folder_count;
  h.block = stored.block_size;
  h.blocks = stored.total_blocks;
  h.free_blocks = stored.free_blocks;
  if (h.block < 512 || (h.block & (h.block - 1)) != 0 || h.block > (16 << 20) || h.blocks == 0)
    throw Malformed(fmt::format(
        "HFS+ volume header: expected blocks of 512 bytes to 16 MiB, a power of two, and some of them, "
        "found {} of {} bytes",
        h.blocks, h.block));
  h.extents = read_fork(f, extents_fork_at);
  h.catalog = read_fork(f, catalog_fork_at);
  h.attributes = read_fork(f, attributes_fork_at);
  return h;
}

// ---- B-trees

Tree::Tree(SourcePtr file, std::string_view what) : file_(std::move(file)), what_(what) {
  auto header = read_structure<TreeHeader>(read_exactly(*file_, 0, size_on_disk<TreeHeader>, what_).data());
  root_ = header.root;
  node_size_ = header.node_size;
  nodes_ = header.total_nodes;
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
  constexpr std::size_t key_at = size_on_disk<KeyLength>;
  std::size_t key = structure_at<KeyLength>(all, 0).length, data = (key_at + key + 1) / 2 * 2;
  return {BigFields(all.bytes(key_at, key), what_), all.from(data)};
}

void Tree::at(std::uint64_t place, const std::function<void(const LeafRecord&)>& take) const {
  Bytes raw = node(static_cast<std::uint32_t>(place >> 16));
  take(record(raw, static_cast<unsigned>(place & 0xFFFF)));
}

void Tree::from(const Before& before, const std::function<bool(const LeafRecord&)>& take) const {
  if (root_ == 0) return;
  std::uint32_t number = root_;
  Bytes raw = node(number);
  auto head = read_structure<NodeDescriptor>(raw.data());
  for (int level = 0; head.kind != leaf_node; ++level) {
    if (head.kind != index_node || level > kMostLevels)
      throw Malformed(fmt::format("{}: node {} is of the wrong kind", what_, number));
    std::uint32_t child = 0;
    for (unsigned i = 0; i < head.record_count; ++i) {  // the last child whose first key is not behind
      LeafRecord one = record(raw, i);
      if (i > 0 && !before(one.key)) break;
      child = structure_at<ChildNode>(one.data, 0).node;
    }
    number = child;
    raw = node(number);
    head = read_structure<NodeDescriptor>(raw.data());
  }
  for (std::uint32_t visited = 0;; ++visited) {
    if (visited > nodes_) throw Malformed(fmt::format("{}: its leaves form a loop", what_));
    for (unsigned i = 0; i < head.record_count; ++i) {
      LeafRecord one = record(raw, i);
      one.place = (std::uint64_t{number} << 16) | i;
      if (!before(one.key) && !take(one)) return;
    }
    number = head.next;
    if (number == 0) return;
    raw = node(number);
    head = read_structure<NodeDescriptor>(raw.data());
    if (head.kind != leaf_node)
      throw Malformed(fmt::format("{}: node {} is of the wrong kind", what_, number));
  }
}

// ---- volume

Volume::Volume(SourcePtr image, const std::function<void(Finding::Level, std::string)>& report)
    : image_(std::move(image)) {
  constexpr std::uint64_t kSector = 512;
  Bytes raw = read_exactly(*image_, header_at, header_size, "HFS+ volume header");
  if (auto outer = read_structure<MasterBlock>(raw.data()); outer.wraps()) {
    std::uint64_t block = outer.block_size, at = outer.first_block * kSector + outer.embedded_start * block;
    image_ = make_slice(image_, at, outer.embedded_count * block);
    raw = read_exactly(*image_, header_at, header_size, "HFS+ volume header");
  }
  try {
    header_ = read_header(raw);
  } catch (const Malformed& error) {
    std::uint64_t at = image_->size() < header_at ? 0 : image_->size() - header_at;
    header_ = read_header(read_exactly(*image_, at, header_size, "HFS+ backup volume header"));
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
    auto order = [&](const BigFields& raw_key) {
      auto key = structure_at<ExtentKey>(raw_key, 0);
      return std::tuple(key.file, key.fork_kind, std::uint64_t{key.start_block});
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
