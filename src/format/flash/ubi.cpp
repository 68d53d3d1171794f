// UBI, the layer of volumes over raw flash (Linux kernel, drivers/mtd/ubi/ubi-media.h): each eraseblock
// begins with a header that counts its erasures and one that says which block of which volume it holds; a
// volume of two copies has the table of names. Sums are CRC-32 without the inversion at the end.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numeric>

#include "base/checksum.h"
#include "base/error.h"
#include "base/structure.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "base/units.h"
#include "container/record_fields.h"
#include "format/firmware/firmware_parts.h"
#include "format/flash/formats.h"
#include "io/block_content.h"
#include "io/filling.h"

namespace operculum {
namespace {

struct EraseHeader {
  std::uint32_t magic = 0;
  std::uint8_t version = 0;
  std::array<Byte, 3> padding1{};
  std::uint64_t ec = 0;
  std::uint32_t vid_hdr_offset = 0, data_offset = 0, image_seq = 0;
  std::array<Byte, 32> padding2{};
  std::uint32_t hdr_crc = 0;
  static constexpr auto layout =
      big_endian(field("magic", &EraseHeader::magic), field("version", &EraseHeader::version),
                 field("padding1", &EraseHeader::padding1), field("ec", &EraseHeader::ec),
                 field("vid_hdr_offset", &EraseHeader::vid_hdr_offset),
                 field("data_offset", &EraseHeader::data_offset), field("image_seq", &EraseHeader::image_seq),
                 field("padding2", &EraseHeader::padding2), field("hdr_crc", &EraseHeader::hdr_crc));
};
struct VolumeHeader {
  std::uint32_t magic = 0;
  std::uint8_t version = 0, vol_type = 0, copy_flag = 0, compat = 0;
  std::uint32_t vol_id = 0, lnum = 0;
  std::array<Byte, 4> padding1{};
  std::uint32_t data_size = 0, used_ebs = 0, data_pad = 0, data_crc = 0;
  std::array<Byte, 4> padding2{};
  std::uint64_t sqnum = 0;
  std::array<Byte, 12> padding3{};
  std::uint32_t hdr_crc = 0;
  static constexpr auto layout =
      big_endian(field("magic", &VolumeHeader::magic), field("version", &VolumeHeader::version),
                 field("vol_type", &VolumeHeader::vol_type), field("copy_flag", &VolumeHeader::copy_flag),
                 field("compat", &VolumeHeader::compat), field("vol_id", &VolumeHeader::vol_id),
                 field("lnum", &VolumeHeader::lnum), field("padding1", &VolumeHeader::padding1),
                 field("data_size", &VolumeHeader::data_size), field("used_ebs", &VolumeHeader::used_ebs),
                 field("data_pad", &VolumeHeader::data_pad), field("data_crc", &VolumeHeader::data_crc),
                 field("padding2", &VolumeHeader::padding2), field("sqnum", &VolumeHeader::sqnum),
                 field("padding3", &VolumeHeader::padding3), field("hdr_crc", &VolumeHeader::hdr_crc));
};
struct TableRow {
  std::uint32_t reserved_pebs = 0, alignment = 0, data_pad = 0;
  std::uint8_t vol_type = 0, upd_marker = 0;
  std::uint16_t name_len = 0;
  std::array<Byte, 128> name{};
  std::uint8_t flags = 0;
  std::array<Byte, 23> padding{};
  std::uint32_t crc = 0;
  static constexpr auto layout =
      big_endian(field("reserved_pebs", &TableRow::reserved_pebs), field("alignment", &TableRow::alignment),
                 field("data_pad", &TableRow::data_pad), field("vol_type", &TableRow::vol_type),
                 field("upd_marker", &TableRow::upd_marker), field("name_len", &TableRow::name_len),
                 field("name", &TableRow::name), field("flags", &TableRow::flags),
                 field("padding", &TableRow::padding), field("crc", &TableRow::crc));
};

constexpr std::uint32_t kEraseMagic = 0x55424923, kVolumeMagic = 0x55424921;
constexpr std::size_t kHeader = size_on_disk<EraseHeader>, kRow = size_on_disk<TableRow>;
constexpr std::uint32_t kTableVolume = 0x7FFFEFFF, kFirstInternal = 0x7FFFEFFF;
constexpr std::uint64_t kLeastBlock = 2048, kLargestBlock = 16 << 20, kStep = 512;
constexpr std::uint8_t kStatic = 2;
constexpr std::size_t kMostVolumes = 128;
constexpr std::uint32_t kMostBlocks = 1 << 18;  // of a volume: 32 GiB in blocks of 128 KiB

std::uint32_t sum_of(ByteView bytes) {
  return crc32_plain(~0U, bytes);
}

template <typename S>
std::optional<S> header_at(const Source& image, std::uint64_t at, std::uint32_t magic) {
  Bytes raw = read_up_to(image, at, kHeader);
  if (raw.size() < kHeader) return std::nullopt;
  auto header = read_structure<S>(raw.data());
  bool fits = header.magic == magic && sum_of(ByteView(raw).first(kHeader - 4)) == header.hdr_crc;
  return fits ? std::optional(header) : std::nullopt;
}

/// The distance of eraseblocks: what all headers that are found have in common; nothing when there is only
/// one.
std::optional<std::uint64_t> block_size_of(const Source& image) {
  constexpr std::size_t kEnough = 16;
  std::uint64_t distance = 0;
  std::size_t found = 0;
  for (std::uint64_t at = kLeastBlock; at + kHeader <= image.size() && found < kEnough; at += kStep) {
    Bytes mark = read_up_to(image, at, 4);
    if (as_text(mark) != "UBI#" || !header_at<EraseHeader>(image, at, kEraseMagic)) continue;
    distance = std::gcd(distance, at);
    ++found;
    if (found == 1) at += distance - kStep;  // the next one is as far again, unless it is bad
    if (at > kLargestBlock * kEnough) break;
  }
  if (found == 0) return std::nullopt;
  return distance >= kLeastBlock && distance <= kLargestBlock ? std::optional(distance) : std::nullopt;
}

struct LogicalBlock {
  std::uint64_t at = 0;  ///< of its data in the image
  VolumeHeader header;
};

struct Volume {
  std::string name;
  bool is_static = false, updating = false;
  std::uint64_t reserved = 0;
  std::map<std::uint32_t, LogicalBlock> blocks;
};

/// A volume's bytes; what no block holds reads as erased flash.
class VolumeSource final : public Source {
 public:
  VolumeSource(SourcePtr image, const Volume& volume, std::uint64_t block)
      : image_(std::move(image)), block_(block) {
    for (const auto& [number, one] : volume.blocks) {
      std::uint64_t length = volume.is_static ? std::min<std::uint64_t>(one.header.data_size, block) : block;
      blocks_[number] = {one.at, length};
      size_ = std::uint64_t{number} * block + length;
    }
  }
  std::uint64_t size() const override { return size_; }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    std::size_t done = 0;
    while (done < out.size() && offset < size_) {
      std::uint64_t number = offset / block_, within = offset % block_;
      auto wanted = static_cast<std::size_t>(
          std::min<std::uint64_t>({out.size() - done, block_ - within, size_ - offset}));
      ByteSpan to = out.subspan(done, wanted);
      std::fill(to.begin(), to.end(), Byte{0xFF});
      if (auto found = blocks_.find(static_cast<std::uint32_t>(number));
          found != blocks_.end() && within < found->second.second)
        image_->read_at(found->second.first + within,
                        to.first(static_cast<std::size_t>(
                            std::min<std::uint64_t>(to.size(), found->second.second - within))));
      done += wanted;
      offset += wanted;
    }
    return done;
  }

  std::optional<SourceRun> origin_at(std::uint64_t offset) const override {
    if (offset >= size_) return std::nullopt;
    auto found = blocks_.find(static_cast<std::uint32_t>(offset / block_));
    std::uint64_t within = offset % block_;
    if (found == blocks_.end() || within >= found->second.second) return std::nullopt;
    return SourceRun{image_.get(), found->second.first + within, found->second.second - within};
  }

 private:
  SourcePtr image_;
  std::uint64_t block_, size_ = 0;
  std::map<std::uint32_t, std::pair<std::uint64_t, std::uint64_t>> blocks_;
};

class Reader {
 public:
  Reader(SourcePtr image, Firmware& out) : image_(std::move(image)), out_(out) {}

  void read() {
    auto first = header_at<EraseHeader>(*image_, 0, kEraseMagic);
    if (!first) throw Malformed("UBI: the first eraseblock has no sound header");
    std::uint64_t size = block_size_of(*image_).value_or(image_->size());
    if (first->data_offset >= size || first->vid_hdr_offset >= size)
      throw Malformed(
          fmt::format("UBI: data begins at {} of eraseblocks of {} bytes", first->data_offset, size));
    data_ = size - first->data_offset;
    head_ = first->data_offset;
    std::uint64_t least = UINT64_MAX, most = 0, empty = 0, bad = 0, count = 0;
    for (std::uint64_t at = 0; at + kHeader <= image_->size(); at += size, ++count) {
      auto erase = header_at<EraseHeader>(*image_, at, kEraseMagic);
      if (!erase) {
        is_filling(*image_, at, at + kHeader) ? ++empty : ++bad;
        continue;
      }
      least = std::min(least, erase->ec);
      most = std::max(most, erase->ec);
      auto volume = header_at<VolumeHeader>(*image_, at + erase->vid_hdr_offset, kVolumeMagic);
      if (!volume) continue;
      if (volume->lnum > kMostBlocks) {
        out_.warn(fmt::format("the eraseblock at offset {} claims to be block {} of a volume; it is left out",
                              at, volume->lnum));
      } else {
        add(*volume, at + erase->data_offset);
      }
    }
    read_table();
    out_.facts = {{"eraseblock", fmt::format("{} bytes, {} of data", grouped(size), grouped(data_))},
                  {"eraseblocks", fmt::format("{}, {} empty", grouped(count), grouped(empty))},
                  {"erased", least == UINT64_MAX ? "never" : fmt::format("{} to {} times", least, most)}};
    if (bad > 0) out_.warn(fmt::format("{} eraseblocks have no sound header: bad blocks, or damage", bad));
    if (image_->size() % size != 0)
      out_.warn("the image does not end with a whole eraseblock: it may be cut short");
    for (auto& [id, volume] : volumes_) {
      if (id < kFirstInternal) present(id, volume);
    }
  }

 private:
  /// Of two blocks for one place, the newer one counts; a copy that was not finished does not.
  void add(const VolumeHeader& header, std::uint64_t at) {
    Volume& volume = volumes_[header.vol_id];
    volume.is_static = header.vol_type == kStatic;
    auto found = volume.blocks.find(header.lnum);
    if (found != volume.blocks.end()) {
      bool newer = header.sqnum > found->second.header.sqnum;
      const VolumeHeader& better = newer ? header : found->second.header;
      std::uint64_t better_at = newer ? at : found->second.at;
      bool unfinished = better.copy_flag != 0 && !data_fits(better, better_at);
      if (newer == unfinished) return;
    }
    volume.blocks[header.lnum] = {at, header};
  }

  bool data_fits(const VolumeHeader& header, std::uint64_t at) const {
    return sum_of(read_up_to(*image_, at, std::min<std::uint64_t>(header.data_size, data_))) ==
           header.data_crc;
  }

  void read_table() {
    auto table = volumes_.find(kTableVolume);
    if (table == volumes_.end() || table->second.blocks.empty()) {
      out_.fault("the table of volumes is missing: their names are not known");
      return;
    }
    for (const auto& [number, block] : table->second.blocks) {
      Bytes rows = read_up_to(*image_, block.at, kMostVolumes * kRow);
      bool all_fit = true;
      for (std::size_t i = 0; (i + 1) * kRow <= rows.size(); ++i) {
        ByteView raw = ByteView(rows).subspan(i * kRow, kRow);
        auto row = read_structure<TableRow>(raw.data());
        if (!sum_fits(sum_of(raw.first(kRow - 4)), row.crc)) {
          all_fit = false;
          break;
        }
        if (row.reserved_pebs == 0) continue;
        Volume& volume = volumes_[static_cast<std::uint32_t>(i)];
        volume.name = as_text(ByteView(row.name)).substr(0, std::min<std::size_t>(row.name_len, 127));
        volume.is_static = row.vol_type == kStatic;
        volume.updating = row.upd_marker != 0;
        volume.reserved = row.reserved_pebs;
      }
      if (all_fit) return;
      out_.warn(fmt::format("copy {} of the table of volumes is damaged", number));
    }
  }

  /// The data of a static volume, whose blocks have checksums.
  static ContentPtr checked_content(const SourcePtr& image, const Volume& volume, std::uint64_t size,
                                    const std::string& name) {
    std::vector<Block> blocks;
    std::uint64_t at = 0;
    std::uint32_t used = volume.blocks.empty() ? 0 : volume.blocks.begin()->second.header.used_ebs;
    for (std::uint32_t i = 0; i < used; ++i) {
      auto found = volume.blocks.find(i);
      if (found == volume.blocks.end())
        throw Malformed(fmt::format("{}: block {} of {} is missing", escape(name), i, used));
      std::uint64_t length = std::min<std::uint64_t>(found->second.header.data_size, size);
      blocks.push_back({at, length, found->second.at, length, i});
      at += length;
    }
    if (blocks.empty()) return make_content(make_memory_source({}));
    return make_block_content(std::move(blocks), [image, volume, name](const Block& block, ByteSpan out) {
      if (image->read_at(block.stored_offset, out) < out.size())
        throw CutShort(fmt::format("{}: block {} is cut short", escape(name), block.tag));
      std::uint32_t own = sum_of(out), stored = volume.blocks.at(block.tag).header.data_crc;
      if (!sum_fits(own, stored))
        throw Malformed(fmt::format("{}: block {} does not fit its checksum{}", escape(name), block.tag,
                                    told_sums(stored, own)));
    });
  }

  void present(std::uint32_t id, const Volume& volume) {
    std::string name = volume.name.empty() ? fmt::format("volume-{}", id) : volume.name;
    name = as_path_part(std::move(name));
    auto source = std::make_shared<VolumeSource>(image_, volume, data_);
    std::string comment = fmt::format("{} of {} blocks", volume.blocks.size(), volume.reserved);
    if (volume.updating)
      out_.fault(fmt::format("{}: an update of it was not finished; its data is not whole", escape(name)));
    FirmwarePart part{
        .path = name, .type = volume.is_static ? "static volume" : "dynamic volume", .comment = comment};
    part.at = volume.blocks.empty() ? 0 : volume.blocks.begin()->second.at;
    part.size = Entry::kUnknownSize;
    part.unpacked = source->size();
    for (const auto& [number, block] : volume.blocks)
      add_range(part.scattered, {block.at - head_, head_ + data_});
    if (volume.is_static) {
      part.checked = true;
      part.open = [=, image = image_, block = data_] { return checked_content(image, volume, block, name); };
      out_.parts.push_back(std::move(part));
      return;
    }
    part.open = [source] { return make_content(SourcePtr(source)); };
    out_.parts.push_back(std::move(part));
  }

  SourcePtr image_;
  Firmware& out_;
  std::uint64_t data_ = 0, head_ = 0;  // bytes of an eraseblock: of data, and in front of it
  std::map<std::uint32_t, Volume> volumes_;
};

Match recognise_ubi(Probe& probe) {
  ByteView head = probe.head(kHeader);
  if (head.size() < kHeader) return Match::none;
  auto header = read_structure<EraseHeader>(head.data());
  bool fits = header.magic == kEraseMagic && sum_of(head.first(kHeader - 4)) == header.hdr_crc;
  return fits ? Match::front : Match::none;
}

ContainerPtr open_ubi(const Input& input, OpenContext& context) {
  SourcePtr image = random_access(*input.content, context.spool);
  Firmware out;
  Reader(image, out).read();
  return make_firmware(std::move(image), std::move(out));
}

}  // namespace

Format ubi_format() {
  return {.id = "ubi",
          .name = "UBI image",
          .family = "firmware",
          .specification = "Linux kernel, drivers/mtd/ubi/ubi-media.h",
          .reads =
              "static and dynamic volumes, names, copies that were not finished, counts of erasures; "
              "checksums of "
              "headers and static volumes",
          .lacks = "fastmap (it is not needed to read an image)",
          .suffixes = {".ubi"},
          .recognise = recognise_ubi,
          .open = open_ubi,
          .records = {record_at<EraseHeader>("first erase counter header", 0)}};
}

}  // namespace operculum
