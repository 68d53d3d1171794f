#include "format/image/qcow2_rewrite.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "format/image/image_blocks.h"
#include "format/image/qcow2_records.h"
#include "io/patches.h"

namespace operculum {
namespace {

using namespace qcow2;

class Rewriter {
 public:
  Rewriter(const SourcePtr& file, const Source& before, const SourcePtr& after)
      : before_(before), after_(after), patches_(file) {
    Bytes raw = read_exactly(*file, 0, kHeader3Size, "QCOW2 header");
    header_ = read_structure<HeaderRecord>(raw.data());
    if (header_.version >= 3) more_ = read_structure<MoreRecord>(raw.data() + kHeaderSize);
    if (header_.crypt_method != 0) throw Unsupported("writing an encrypted QCOW2 image");
    if ((more_.incompatible_features & ~feature_compression) != 0)
      throw Unsupported(
          fmt::format("writing a QCOW2 image with feature bits {:#x}", more_.incompatible_features));
    if (more_.refcount_order < 3 || more_.refcount_order > 6)
      throw Unsupported("writing a QCOW2 image with reference counts of less than a byte");
    cluster_ = std::uint64_t{1} << header_.cluster_bits;
    next_ = (file->size() + cluster_ - 1) / cluster_;
    size_ = file->size();
  }

  Assembly run() {
    each_change(before_, *after_, cluster_,
                [this](std::uint64_t at, std::uint64_t) { change(at / cluster_); });
    if (header_.version >= 3 && more_.autoclear_features != 0)
      put(kHeaderSize + place_of(&MoreRecord::autoclear_features).at, 0, 8);  // nobody keeps those up to date
    return patches_.assembly(std::max(size_, next_ * cluster_));
  }

 private:
  // ---- words of tables

  std::uint64_t word(std::uint64_t at) const {
    return load_number(patches_.read(at, 8).data(), 8, std::endian::big);
  }
  void put(std::uint64_t at, std::uint64_t value, std::size_t width) {
    Byte raw[8];
    store_number(raw, width, value, std::endian::big);
    patches_.put(at, ByteView(raw, width));
  }

  // ---- reference counts

  /// Where the count of a host cluster stands; a block of counts is made where there is none.
  std::uint64_t count_place(std::uint64_t cluster) {
    std::uint64_t width = (std::uint64_t{1} << more_.refcount_order) / 8, per_block = cluster_ / width;
    std::uint64_t index = cluster / per_block;
    if (index >= header_.refcount_table_clusters * cluster_ / 8)
      throw Unsupported("a QCOW2 image with a longer table of reference counts");
    std::uint64_t entry = header_.refcount_table_offset + index * 8, block = word(entry) & kPlaceMask;
    if (block == 0) {
      std::uint64_t made = next_++;
      block = made * cluster_;
      patches_.put(block, Bytes(static_cast<std::size_t>(cluster_)));
      put(entry, block, 8);
      set_count(made, 1);
    }
    return block + cluster % per_block * width;
  }

  std::size_t count_width() const { return (std::size_t{1} << more_.refcount_order) / 8; }
  /// Images that never had any get none.
  bool keeps_counts() const { return header_.refcount_table_clusters > 0; }
  void set_count(std::uint64_t cluster, std::uint64_t count) {
    if (keeps_counts()) put(count_place(cluster), count, count_width());
  }
  void let_go(std::uint64_t cluster) {
    if (!keeps_counts()) return;
    std::uint64_t at = count_place(cluster);
    std::uint64_t count =
        load_number(patches_.read(at, count_width()).data(), count_width(), std::endian::big);
    if (count > 0) put(at, count - 1, count_width());
  }

  std::uint64_t take_cluster() {
    std::uint64_t cluster = next_++;
    set_count(cluster, 1);
    return cluster;
  }

  // ---- clusters of the disk

  /// The table that has a cluster's entry, for this image alone.
  std::uint64_t own_table(std::uint64_t l1) {
    if (l1 >= header_.l1_size) throw Malformed(fmt::format("QCOW2: the first table has no entry {}", l1));
    std::uint64_t at = header_.l1_table_offset + l1 * 8, entry = word(at), table = entry & kPlaceMask;
    if (table != 0 && (entry & kCopied) != 0) return table;
    std::uint64_t made = take_cluster() * cluster_;
    Bytes content(static_cast<std::size_t>(cluster_));
    if (table != 0) {
      content = patches_.read(table, static_cast<std::size_t>(cluster_));
      let_go(table / cluster_);
    }
    patches_.put(made, content);
    put(at, made | kCopied, 8);
    return made;
  }

  void change(std::uint64_t index) {
    std::uint64_t from = index * cluster_, length = std::min(cluster_, after_->size() - from);
    if (read_up_to(before_, from, length) == read_up_to(*after_, from, length)) return;
    std::uint64_t per_table = cluster_ / 8, at = own_table(index / per_table) + index % per_table * 8;
    std::uint64_t entry = word(at), place = entry & kPlaceMask;
    bool in_place = (entry & kPacked) == 0 && (entry & kCopied) != 0 && (entry & kZeros) == 0 && place != 0;
    if (!in_place) {
      let_go_of(entry);
      place = take_cluster() * cluster_;
      put(at, place | kCopied, 8);
    }
    patches_.put(place, after_, from, length);
    if (!in_place) patches_.put_zeros(place + length, cluster_ - length);
  }

  /// The host clusters that an entry was about: packed ones may lie across several.
  void let_go_of(std::uint64_t entry) {
    if ((entry & kPacked) == 0) {
      if ((entry & kPlaceMask) != 0) let_go((entry & kPlaceMask) / cluster_);
      return;
    }
    unsigned offset_bits = 62 - (header_.cluster_bits - 8);
    std::uint64_t packed = entry & (kPacked - 1), at = packed & ((std::uint64_t{1} << offset_bits) - 1);
    std::uint64_t end = at / 512 * 512 + ((packed >> offset_bits) + 1) * 512;
    for (std::uint64_t cluster = at / cluster_; cluster * cluster_ < end; ++cluster) let_go(cluster);
  }

  const Source& before_;
  SourcePtr after_;
  Patches patches_;
  HeaderRecord header_;
  MoreRecord more_;
  std::uint64_t cluster_ = 0, next_ = 0, size_ = 0;  // bytes; clusters; bytes of the file
};

}  // namespace

Assembly rewrite_qcow2(const SourcePtr& file, const Source& before, const SourcePtr& after) {
  return Rewriter(file, before, after).run();
}

}  // namespace operculum
