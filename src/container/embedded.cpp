#include "container/embedded.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checksum.h"
#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"

namespace operculum {
namespace {

constexpr std::size_t kBlock = 1 << 20, kOverlap = 512;
constexpr unsigned kMostLooks = 20000;                        // marks looked at
constexpr unsigned kMostTrials = 64, kThoroughTrials = 1000;  // formats opened in vain
constexpr std::size_t kTrial = 4096;                          // bytes of a stream that have to decode

constexpr std::string_view kZipMark = "PK\x03\x04", kZipEnd = "PK\x05\x06";

/// How a container states its size.
struct SizeField {
  enum class Form { nowhere, little32, little64, big32 };
  Form form = Form::nowhere;
  std::size_t at = 0;      ///< from the container's first byte
  std::uint64_t more = 0;  ///< bytes that it does not count
};

/// Finds where a container ends that does not state it; bytes from its beginning, 0 where it cannot be told.
using FindEnd = std::uint64_t (*)(const Source& bytes, std::uint64_t begin, std::uint64_t end);

/// What a container begins with.
struct Mark {
  std::string_view bytes;
  std::array<std::string_view, 2> formats;  ///< ids of those that begin so, in the order they are tried in
  std::size_t within = 0;                   ///< where in the container the mark is
  SizeField size = {};
  FindEnd find_end = nullptr;
};

using Form = SizeField::Form;

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

constexpr Mark kMarks[] = {
    {std::string_view("MSCF\0\0\0\0", 8), {"cab"}, 0, {Form::little32, 8}},
    {"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1", {"msi", "cfb"}},
    {kZipMark, {"zip"}},
    {std::string_view("\xFD"
                      "7zXZ\0",
                      6),
     {"xz"}},
    {"\x28\xB5\x2F\xFD", {"zstd"}},
    {"\x1F\x8B\x08", {"gzip"}},
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
    {"\x85\x19\x03\x20", {"jffs2"}, 0, {}, jffs2_size},
    {"\x85\x19\x01\xE0", {"jffs2"}, 0, {}, jffs2_size},
    {"\x19\x85\x20\x03", {"jffs2"}, 0, {}, jffs2_size},
    {"\x19\x85\xE0\x01", {"jffs2"}, 0, {}, jffs2_size},
    {"littlefs", {"littlefs"}, 8},
    // the usual properties, and the windows that packers offer: 64 KiB to 64 MiB
    // with a size in front
    {std::string_view("\x5D\0\0\x01\0", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\x10\0", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\x20\0", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\x40\0", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\x80\0", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\0\x01", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\0\x02", 5), {"lzma-odd"}, 4},
    {std::string_view("\x5D\0\0\0\x04", 5), {"lzma-odd"}, 4},
    // the usual header, or one without a size
    {std::string_view("\x5D\0\0\x01\0", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\x10\0", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\x20\0", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\x40\0", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\x80\0", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\0\x01", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\0\x02", 5), {"lzma", "lzma-odd"}},
    {std::string_view("\x5D\0\0\0\x04", 5), {"lzma", "lzma-odd"}},
};

/// The first of a mark's formats that recognises the bytes from their first one on; nothing when none does.
const Format* recognise_marked(const Mark& mark, Probe& probe) {
  for (std::string_view id : mark.formats) {
    auto format =
        std::find_if(formats().begin(), formats().end(), [&](const Format& one) { return one.id == id; });
    if (format != formats().end() && format->recognise(probe) == Match::front) return &*format;
  }
  return nullptr;
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

/// The size of the ZIP archive that begins at `begin`: up to the first end record whose directory lies right
/// in front of it (APPNOTE 4.3.16); nothing when there is none.
std::optional<std::uint64_t> zip_size(const Source& bytes, std::uint64_t begin, std::uint64_t end) {
  constexpr std::size_t kRecord = 22;
  for (std::uint64_t at = begin; at + kRecord <= end; at += kBlock) {
    Bytes block = read_up_to(bytes, at, std::min<std::uint64_t>(kBlock + kRecord, end - at));
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
  return std::nullopt;
}

/// The marks by their first byte, and a table in which a look at four bytes tells whether any mark may begin
/// so.
class MarkTable {
 public:
  MarkTable() {
    for (std::size_t i = 0; i < std::size(kMarks); ++i) {
      std::string_view mark = kMarks[i].bytes;
      by_first_[static_cast<Byte>(mark[0])].push_back(i);
      Byte key[kKey] = {};
      std::copy_n(mark.begin(), std::min(mark.size(), kKey), key);
      for (unsigned last = 0; last < (mark.size() < kKey ? 256u : 1u); ++last) {  // one byte of some is free
        if (mark.size() < kKey) key[kKey - 1] = static_cast<Byte>(last);
        std::uint32_t slot = slot_of(key);
        may_[slot / 32] |= 1u << (slot % 32);
      }
    }
  }
  static constexpr std::size_t kKey = 4;  ///< bytes; a mark has at most one less
  /// The first place from `at` on, or `end`, where a mark may begin; kKey bytes behind `end` can be looked
  /// at.
  std::size_t next(const Byte* bytes, std::size_t at, std::size_t end) const {
    // four at a time: their looks do not wait for each other
    while (at + 4 <= end &&
           (may(bytes + at) | may(bytes + at + 1) | may(bytes + at + 2) | may(bytes + at + 3)) == 0)
      at += 4;
    while (at < end && may(bytes + at) == 0) ++at;
    return at;
  }
  const std::vector<std::size_t>& of(Byte first) const { return by_first_[first]; }

 private:
  std::uint32_t may(const Byte* bytes) const {
    std::uint32_t slot = slot_of(bytes);
    return may_[slot / 32] >> (slot % 32) & 1;
  }
  static std::uint32_t slot_of(const Byte* bytes) {
    return (load_little<std::uint32_t>(bytes) * 0x9E3779B1u) >> 16;
  }
  std::array<std::vector<std::size_t>, 256> by_first_;
  std::array<std::uint32_t, 2048> may_{};
};

class Finder {
 public:
  Finder(const SourcePtr& bytes, std::uint64_t at, std::uint64_t end, OpenContext& context,
         EmbeddedSearch search)
      : bytes_(bytes), begin_(at), at_(at), end_(end), context_(context), search_(search) {}

  std::vector<Embedded> find() {
    static const MarkTable table;
    Bytes block;
    while (at_ < end_ && found_.size() < search_.most && looks_ < kMostLooks && trials_ < most_trials_) {
      block = read_up_to(*bytes_, at_, std::min<std::uint64_t>(kBlock + kOverlap, end_ - at_));
      std::size_t most = std::min(block.size(), kBlock);
      block.resize(block.size() + MarkTable::kKey);  // so that a look at the last byte stays within
      std::uint64_t next = at_ + most;
      for (std::size_t i = table.next(block.data(), 0, most); i < most;
           i = table.next(block.data(), i + 1, most)) {
        if (auto past = look(ByteView(block).subspan(i), at_ + i, table.of(block[i]))) {
          if (*past >= end_ || found_.size() >= search_.most) return std::move(found_);
          if (*past >= next) {
            next = *past;
            break;
          }
          i = static_cast<std::size_t>(*past - at_) - 1;
        }
      }
      at_ = next;
      if (most == 0) break;
    }
    return std::move(found_);
  }

 private:
  /// Where to go on behind what begins here; nothing when nothing does.
  std::optional<std::uint64_t> look(ByteView front, std::uint64_t at, const std::vector<std::size_t>& marks) {
    for (std::size_t index : marks) {
      const Mark& mark = kMarks[index];
      if (!starts_with(front, mark.bytes) || at < begin_ + mark.within) continue;
      std::uint64_t begin = at - mark.within;
      std::optional<std::uint64_t> stated = size_of(mark, *bytes_, begin, end_);
      std::uint64_t size = std::min(stated.value_or(UINT64_MAX), end_ - begin);
      if (looks_++ >= kMostLooks || trials_ >= most_trials_) return end_;
      std::uint64_t reach = 0;
      if (const Format* format = opened(mark, begin, size, reach)) {
        if (stated && reach > size) stated = size = std::min(reach, end_ - begin);
        if (search_.thorough && mark.bytes == kZipMark) {
          stated = zip_size(*bytes_, begin, end_);
          size = stated.value_or(size);
        }
        if (!found_.empty() && !found_.back().end_stated) found_.back().size = begin - found_.back().at;
        found_.push_back({begin, size, format, stated.has_value()});
        --trials_;  // only what is passed over counts
        bool goes_on = search_.thorough && format->single_stream;
        return goes_on ? at + mark.bytes.size() : begin + size;
      }
    }
    return std::nullopt;
  }

  /// The format of what begins at `at`, if it opens; `reach` gets the end of its last part, which may lie
  /// behind the size that it states: an image tree states that of its tree alone.
  const Format* opened(const Mark& mark, std::uint64_t at, std::uint64_t size, std::uint64_t& reach) {
    SourcePtr part = make_slice(bytes_, at, size);
    Probe probe(part, "");
    const Format* format = recognise_marked(mark, probe);
    if (format == nullptr) return nullptr;
    ++trials_;
    try {
      ContainerPtr container = format->open({make_content(part), ""}, context_);
      if (format->family == "firmware") {
        for (const Entry& entry : container->entries()) {
          if (entry.stored_size != Entry::kUnknownSize && entry.offset < UINT64_MAX - entry.stored_size)
            reach = std::max(reach, entry.offset + entry.stored_size);
        }
      }
      if (!format->single_stream) return format;
      Bytes some(kTrial);
      read_fully(*container->content(0)->stream(), some);
      return format;
    } catch (const NeedsKey&) {
      return format;
    } catch (const std::exception&) {
      return nullptr;
    }
  }

  const SourcePtr& bytes_;
  std::uint64_t begin_, at_, end_;
  OpenContext& context_;
  EmbeddedSearch search_;
  unsigned most_trials_ = search_.thorough ? kThoroughTrials : kMostTrials;
  unsigned looks_ = 0, trials_ = 0;
  std::vector<Embedded> found_;
};

}  // namespace

std::vector<Embedded> find_embedded(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size,
                                    OpenContext& context, EmbeddedSearch search) {
  std::uint64_t end =
      std::min(end_of_data(*bytes), at + std::min(size, bytes->size()));  // no mark lies in a hole
  return Finder(bytes, at, end, context, search).find();
}

std::string name_of(const Embedded& embedded) {
  std::string_view ending =
      embedded.format->suffixes.empty() ? std::string_view() : embedded.format->suffixes.front();
  return fmt::format("offset-{:08x}{}", embedded.at, ending);
}

}  // namespace operculum
