#include "format/image/vhd_rewrite.h"

#include <algorithm>

#include "format/image/image_blocks.h"
#include "format/image/vhd_records.h"
#include "io/patches.h"

namespace operculum::vhd {
namespace {

class Rewriter {
 public:
  Rewriter(const SourcePtr& file, std::uint64_t end, const DynamicHeader& header, const Source& before,
           SourcePtr after)
      : file_(file), header_(header), before_(before), after_(std::move(after)), patches_(file), end_(end) {
    next_ = (end + kSector - 1) / kSector * kSector;
  }

  Assembly run() {
    each_change(before_, *after_, header_.block_size,
                [this](std::uint64_t at, std::uint64_t length) { change(at, length); });
    if (next_ > end_) patches_.put(next_, file_, end_, file_->size() - end_);
    return patches_.assembly(std::max(file_->size(), next_ + file_->size() - end_));
  }

 private:
  void change(std::uint64_t at, std::uint64_t length) {
    if (read_up_to(before_, at, length) == read_up_to(*after_, at, length)) return;
    std::uint64_t index = at / header_.block_size, begin = index * header_.block_size;
    if (index >= header_.max_table_entries)
      throw Malformed(fmt::format("VHD: expected the block table to have more than {} entries, found {}",
                                  index, header_.max_table_entries));
    std::uint64_t entry = header_.table_offset + index * 4;
    auto sector =
        static_cast<std::uint32_t>(load_number(patches_.read(entry, 4).data(), 4, std::endian::big));
    if (sector == kUnused) return put_new(entry, begin);
    std::uint64_t block = std::uint64_t{sector} * kSector, data = block + bitmap_size(header_.block_size);
    mark_sectors(block, (at - begin) / kSector, (at - begin + length + kSector - 1) / kSector);
    // A sector that the image did not have was the parent's, or zeros: all of it is put in.
    std::uint64_t from = at / kSector * kSector;
    std::uint64_t to = std::min((at + length + kSector - 1) / kSector * kSector, after_->size());
    patches_.put(data + from - begin, after_, from, to - from);
  }

  void mark_sectors(std::uint64_t bitmap, std::uint64_t from, std::uint64_t to) {
    Bytes bits = patches_.read(bitmap, static_cast<std::size_t>(bitmap_size(header_.block_size)));
    Bytes marked = bits;
    for (std::uint64_t i = from; i < to && i / 8 < marked.size(); ++i) marked[i / 8] |= Byte(0x80 >> i % 8);
    if (marked != bits) patches_.put(bitmap, marked);
  }

  void put_new(std::uint64_t entry, std::uint64_t begin) {
    std::uint64_t bitmap = bitmap_size(header_.block_size);
    std::uint64_t length = std::min<std::uint64_t>(header_.block_size, after_->size() - begin);
    Byte raw[4];
    store_number(raw, 4, next_ / kSector, std::endian::big);
    patches_.put(entry, raw);
    patches_.put(next_, Bytes(static_cast<std::size_t>(bitmap), 0xff));
    patches_.put(next_ + bitmap, after_, begin, length);
    patches_.put_zeros(next_ + bitmap + length, header_.block_size - length);
    next_ += bitmap + header_.block_size;
  }

  const SourcePtr& file_;
  const DynamicHeader& header_;
  const Source& before_;
  SourcePtr after_;
  Patches patches_;
  std::uint64_t end_, next_;  // where the footer lies, and where a new block comes
};

}  // namespace

Assembly rewrite(const SourcePtr& file, std::uint64_t end, const DynamicHeader& header, const Source& before,
                 const SourcePtr& after) {
  return Rewriter(file, end, header, before, after).run();
}

}  // namespace operculum::vhd
