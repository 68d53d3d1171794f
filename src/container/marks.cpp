#include "container/marks.h"

#include <algorithm>
#include <cassert>

#include "base/checksum.h"
#include "base/cursor.h"
#include "base/numbers.h"
#include "codec/deflate_front.h"
#include "codec/lzma_head.h"

namespace operculum {
namespace {

using Form = SizeField::Form;

constexpr std::size_t kEndBlock = 1 << 20;  // of a search for an end, in bytes

constexpr std::string_view kZipMark = "PK\x03\x04", kZipEnd = "PK\x05\x06";

bool is_erased(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](Byte b) { return b == 0xFF; });
}

/// Eraseblocks of UBI: each begins with its mark, or is erased.
std::uint64_t ubi_size(const Source& bytes, std::uint64_t begin, std::uint64_t end) {
  constexpr std::uint64_t kLeast = 4096, kMost = 4 << 20;
  std::uint64_t block = 0;
  for (std::uint64_t at = kLeast; at <= kMost && block == 0 && begin + at < end; at += kLeast) {
    if (as_text(read_up_to(bytes, begin + at, 4)) == "UBI#") block = at;
  }
  if (block == 0) return 0;
  std::uint64_t size = block;
  while (begin + size + block <= end) {
    Bytes head = read_up_to(bytes, begin + size, 64);
    if (!starts_with(head, "UBI#") && !is_erased(head)) break;
    size += block;
  }
  return size;
}

/// Whether a sound JFFS2 node begins in these bytes, at a multiple of 4: its magic, and the sum of its
/// header.
bool has_jffs2_node(ByteView bytes, std::string_view magic) {
  for (std::size_t at = 0; at + 12 <= bytes.size(); at += 4) {
    if (bytes[at] != static_cast<Byte>(magic[0]) || bytes[at + 1] != static_cast<Byte>(magic[1])) continue;
    bool little = bytes[at] == 0x85;
    Bytes summed(bytes.begin() + static_cast<std::ptrdiff_t>(at),
                 bytes.begin() + static_cast<std::ptrdiff_t>(at + 8));
    summed[little ? 3 : 2] |= 0x20;  // cleared when the node is replaced
    Cursor sum(bytes.subspan(at + 8, 4), "sum");
    if (crc32_plain(0, summed) == (little ? sum.u32le() : sum.u32be())) return true;
  }
  return false;
}

/// A log of JFFS2 nodes: each stretch of 64 KiB has one, or is erased.
std::uint64_t jffs2_size(const Source& bytes, std::uint64_t begin, std::uint64_t end) {
  constexpr std::uint64_t kStep = 64 << 10;
  Bytes magic = read_up_to(bytes, begin, 2);
  std::uint64_t size = 0;
  while (begin + size < end) {
    Bytes part = read_up_to(bytes, begin + size, std::min(kStep, end - begin - size));
    if (!has_jffs2_node(part, as_text(magic)) && !is_erased(part)) break;
    size += part.size();
  }
  return size;
}

/// SquashFS images of all versions and both orders: the version tells where their size is.
std::uint64_t squashfs_size(const Source& bytes, std::uint64_t begin, std::uint64_t) {
  constexpr std::size_t kHead = 119, kVersionAt = 28;
  struct Place {
    std::uint64_t version;
    std::size_t at, width;
  };
  constexpr Place kPlaces[] = {{4, 40, 8}, {3, 63, 8}, {2, 8, 4}};
  Bytes head = read_up_to(bytes, begin, kHead);
  if (head.size() < kHead) return 0;
  for (std::endian order : {std::endian::little, std::endian::big}) {
    for (const Place& place : kPlaces) {
      if (load_number(head.data() + kVersionAt, 2, order) == place.version)
        return load_number(head.data() + place.at, place.width, order);
    }
  }
  return 0;
}

/// The size of the ZIP archive that begins at `begin`: up to the first end record whose directory lies right
/// in front of it (APPNOTE 4.3.16); 0 when there is none.
std::uint64_t zip_size(const SourcePtr& bytes, std::uint64_t begin, std::uint64_t end, std::uint64_t&) {
  constexpr std::size_t kRecord = 22;
  for (std::uint64_t at = begin; at + kRecord <= end; at += kEndBlock) {
    Bytes block = read_up_to(*bytes, at, std::min<std::uint64_t>(kEndBlock + kRecord, end - at));
    std::string_view text = as_text(block);
    for (std::size_t i = text.find(kZipEnd); i != std::string_view::npos && i + kRecord <= block.size();
         i = text.find(kZipEnd, i + 1)) {
      std::uint64_t directory = std::uint64_t{load_little<std::uint32_t>(block.data() + i + 12)} +
                                load_little<std::uint32_t>(block.data() + i + 16);
      bool wide = load_little<std::uint32_t>(block.data() + i + 16) == UINT32_MAX;
      std::uint64_t size = at + i - begin;
      if (wide || directory == size)
        return std::min(size + kRecord + load_little<std::uint16_t>(block.data() + i + 20), end - begin);
    }
  }
  return 0;
}

/// The size of all members of a gzip file; 0 where it is damaged.
std::uint64_t gzip_size(const SourcePtr& bytes, std::uint64_t begin, std::uint64_t end,
                        std::uint64_t& may_decode) {
  auto extent = deflate_extent(bytes, begin, end, "gzip", may_decode);
  return extent ? extent->packed : 0;
}

/// An MCUboot image: header, image, and up to two areas of values that state their sizes.
std::uint64_t mcuboot_size(const Source& bytes, std::uint64_t begin, std::uint64_t end) {
  constexpr std::size_t kHead = 16, kHeaderSizeAt = 8, kProtectedAt = 10, kImageSizeAt = 12, kInfo = 4;
  Bytes head = read_up_to(bytes, begin, kHead);
  if (head.size() < kHead) return 0;
  std::uint64_t size = std::uint64_t{load_little<std::uint16_t>(head.data() + kHeaderSizeAt)} +
                       load_little<std::uint32_t>(head.data() + kImageSizeAt) +
                       load_little<std::uint16_t>(head.data() + kProtectedAt);
  Bytes info = read_up_to(bytes, begin + size, kInfo);
  if (info.size() == kInfo) size += load_little<std::uint16_t>(info.data() + 2);
  return begin + size <= end ? size : 0;
}

constexpr Mark kMarks[] = {
    {std::string_view("MSCF\0\0\0\0", 8), {"cab"}, 0, {Form::little32, 8}},
    {"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1", {"msi", "cfb"}},
    {kZipMark, {"zip"}, 0, {}, nullptr, zip_size},
    {std::string_view("\xFD"
                      "7zXZ\0",
                      6),
     {"xz"}},
    {"\x28\xB5\x2F\xFD", {"zstd"}},
    {"\x1F\x8B\x08", {"gzip"}, 0, {}, nullptr, gzip_size},
    {"BZh91AY&SY", {"bzip2"}},
    {"\x04\x22\x4D\x18", {"lz4"}},
    {"\x02\x21\x4C\x18", {"lz4"}},
    {"\x89LZO", {"lzo"}},
    {"hsqs", {"squashfs"}, 0, {}, squashfs_size},
    {"sqsh", {"squashfs"}, 0, {}, squashfs_size},
    {"shsq", {"squashfs"}, 0, {}, squashfs_size},
    {"qshs", {"squashfs"}, 0, {}, squashfs_size},
    {"tqsh", {"squashfs"}, 0, {}, squashfs_size},
    {"hsqt", {"squashfs"}, 0, {}, squashfs_size},
    {"sqlz", {"squashfs"}, 0, {}, squashfs_size},
    {"\xE2\xE1\xF5\xE0", {"erofs"}, 1024},
    {"\x45\x3D\xCD\x28", {"cramfs"}, 0, {Form::little32, 4}},
    {"\x28\xCD\x3D\x45", {"cramfs"}, 0, {Form::big32, 4}},
    {"-rom1fs-", {"romfs"}, 0, {Form::big32, 8}},
    {"070701", {"cpio"}},
    {"!<arch>\n", {"deb", "ar"}},
    {"ustar", {"tar"}, 257},
    {"\xED\xAB\xEE\xDB", {"rpm"}},
    {"xar!", {"xar"}},
    {std::string_view("MSWIM\0\0\0", 8), {"wim"}},
    {"\xD0\x0D\xFE\xED", {"fit", "device-tree"}, 0, {Form::big32, 4}},
    {"\x27\x05\x19\x56", {"boot-image"}, 0, {Form::big32, 12, 64}},
    {"_FVH", {"uefi"}, 40, {Form::little64, 32}},
    {"ANDROID!", {"android-boot"}},
    {"VNDRBOOT", {"vendor-boot"}},
    {"UBI#", {"ubi"}, 0, {}, ubi_size},
    {std::string_view("\x01\x00\x64\xAA", 4), {"fip"}},
    {"\x31\x18\x10\x06", {"ubifs"}},
    {"\x3D\xB8\xF3\x96", {"mcuboot"}, 0, {}, mcuboot_size},
    {"\x85\x19\x03\x20", {"jffs2"}, 0, {}, jffs2_size},
    {"\x85\x19\x01\xE0", {"jffs2"}, 0, {}, jffs2_size},
    {"\x19\x85\x20\x03", {"jffs2"}, 0, {}, jffs2_size},
    {"\x19\x85\xE0\x01", {"jffs2"}, 0, {}, jffs2_size},
    {"littlefs", {"littlefs"}, 8},
};

/// LZMA states no mark: what tells it are usual properties, and windows of 64 KiB to 64 MiB.
class LzmaMarks {
 public:
  LzmaMarks() {
    std::size_t i = 0;
    for (Byte properties : kUsualLzmaProperties) {
      for (std::uint32_t window : kWindows) {
        fronts_[i] = {static_cast<char>(properties)};
        for (unsigned byte = 0; byte < 4; ++byte)
          fronts_[i][1 + byte] = static_cast<char>(window >> 8 * byte);
        std::string_view front(fronts_[i].data(), fronts_[i].size());
        marks_[2 * i] = {front, {"lzma-odd"}, 4};  // with a size in front
        marks_[2 * i + 1] = {front, {"lzma", "lzma-odd"}};
        ++i;
      }
    }
  }
  std::span<const Mark> marks() const { return marks_; }

 private:
  static constexpr std::uint32_t kWindows[] = {1 << 16, 1 << 20, 1 << 21, 1 << 22,
                                               1 << 23, 1 << 24, 1 << 25, 1 << 26};
  static constexpr std::size_t kCount = std::size(kUsualLzmaProperties) * std::size(kWindows);
  std::array<std::array<char, 5>, kCount> fronts_;
  std::array<Mark, 2 * kCount> marks_;
};

}  // namespace

MarkTable::MarkTable() {
  static const LzmaMarks lzma;
  for (const Mark& mark : kMarks) add(mark, true);
  for (const Mark& mark : lzma.marks()) add(mark, false);
}

void MarkTable::add(const Mark& mark, bool by_pairs) {
  assert(mark.bytes.size() > 2 && mark.bytes[0] != 0);
  by_first_[static_cast<Byte>(mark.bytes[0])].push_back(&mark);
  for (std::size_t at = 0; at < (by_pairs ? 2u : 0u); ++at) {
    auto both = load_little<std::uint16_t>(reinterpret_cast<const Byte*>(mark.bytes.data()) + at);
    pairs_[both / 32] |= 1u << (both % 32);
  }
  Byte key[kKey] = {};
  std::copy_n(mark.bytes.begin(), std::min(mark.bytes.size(), kKey), key);
  for (unsigned last = 0; last < (mark.bytes.size() < kKey ? 256u : 1u);
       ++last) {  // one byte of some is free
    if (mark.bytes.size() < kKey) key[kKey - 1] = static_cast<Byte>(last);
    std::uint32_t slot = slot_of(key);
    may_[slot / 32] |= 1u << (slot % 32);
  }
}

/// The total size that a container states or that its end tells; nothing when none is.
std::optional<std::uint64_t> size_of(const Mark& mark, const Source& bytes, std::uint64_t begin,
                                     std::uint64_t end) {
  constexpr std::size_t kReach = 64;
  if (mark.find_end != nullptr) {
    std::uint64_t size = mark.find_end(bytes, begin, end);
    return size == 0 ? std::nullopt : std::optional(size);
  }
  if (mark.size.form == Form::nowhere) return std::nullopt;
  Bytes head = read_up_to(bytes, begin, kReach);
  if (head.size() < mark.size.at + 8) return std::nullopt;
  const Byte* field = head.data() + mark.size.at;
  std::uint64_t size = mark.size.form == Form::little64   ? load_little<std::uint64_t>(field)
                       : mark.size.form == Form::little32 ? load_little<std::uint32_t>(field)
                                                          : Cursor(ByteView(field, 4), "size").u32be();
  if (size == 0 || size > UINT64_MAX - mark.size.more) return std::nullopt;
  return size + mark.size.more;
}

}  // namespace operculum
