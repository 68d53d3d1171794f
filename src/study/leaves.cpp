// Each format has a mark, and a way to walk through what it says of its own length: a mark alone is met by
// chance once in some gigabytes, and often in texts.
#include "study/leaves.h"

#include <algorithm>
#include <array>
#include <optional>

#include "base/bytes.h"
#include "base/cursor.h"
#include "study/number_form.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kWindow = 1 << 20;  // bytes looked at in one go
constexpr std::size_t kShortestMark = 2, kLongestMark = 12;
constexpr std::uint64_t kLook = 256, kMostLooks = 16 << 20;  // of so many bytes
constexpr NumberForm kBig16{2, true}, kBig32{4, true}, kLittle32{4, false};

/// Bytes from the beginning of what may be a leaf on, of which `near` are at hand. `looks` is how much may
/// still be looked at: marks that are no leaves must not cost a walk through the rest of the file each.
class Rest {
 public:
  Rest(const Source& file, std::uint64_t at, ByteView near, std::uint64_t& looks)
      : file_(file), near_(near), begin_(at), size_(file.size() - at), looks_(looks) {}

  std::uint64_t size() const { return size_; }
  /// `count` bytes at `at`; fewer at the end. Borrowed until the next call.
  ByteView at(std::uint64_t at, std::size_t count) const {
    if (at < near_.size() && count <= near_.size() - at)
      return near_.subspan(static_cast<std::size_t>(at), count);
    if (at >= size_ || looks_ == 0) return {};
    buffer_.resize(static_cast<std::size_t>(std::min<std::uint64_t>(count, size_ - at)));
    looks_ -= std::min<std::uint64_t>(looks_, 1 + buffer_.size() / kLook);
    buffer_.resize(file_.read_at(begin_ + at, buffer_));
    return buffer_;
  }
  std::optional<std::uint64_t> number(std::uint64_t place, NumberForm form) const {
    ByteView bytes = at(place, form.width);
    return bytes.size() < form.width ? std::nullopt : std::optional(read_number(bytes.data(), form));
  }

 private:
  const Source& file_;
  ByteView near_;
  std::uint64_t begin_, size_;
  std::uint64_t& looks_;
  mutable Bytes buffer_;
};

/// How long a leaf is, in bytes; 0: it is one, but does not tell; nothing: it is none.
using Length = std::optional<std::uint64_t> (*)(const Rest&);

std::optional<std::uint64_t> within(const Rest& rest, std::uint64_t size, std::uint64_t least) {
  return size >= least && size <= rest.size() ? std::optional(size) : std::nullopt;
}

/// Four printed characters, as chunks and tables are called.
bool is_type(ByteView bytes) {
  return bytes.size() == 4 && std::all_of(bytes.begin(), bytes.end(), is_ascii_name_byte);
}

/// Portable Network Graphics, section 5.3: chunks up to IEND.
std::optional<std::uint64_t> png(const Rest& rest) {
  for (std::uint64_t at = 8; at + 12 <= rest.size();) {
    auto length = rest.number(at, kBig32);
    ByteView type = rest.at(at + 4, 4);
    if (!length || !is_type(type)) return std::nullopt;
    bool last = as_text(type) == "IEND";
    at += 12 + *length;
    if (last) return within(rest, at, 45);
  }
  return std::nullopt;
}

/// JPEG (ITU-T T.81), annex B: segments up to the end of image, coded data between them.
std::optional<std::uint64_t> jpeg(const Rest& rest) {
  constexpr Byte kEnd = 0xd9, kScan = 0xda, kFirstRestart = 0xd0, kLastRestart = 0xd7;
  std::uint64_t at = 2;
  for (;;) {
    ByteView marker = rest.at(at, 4);
    if (marker.size() < 2 || marker[0] != 0xff || marker[1] < 0xc0) return std::nullopt;
    if (marker[1] == kEnd) return at + 2;
    if (marker.size() < 4) return std::nullopt;
    bool scan = marker[1] == kScan;
    std::uint64_t length = read_number(marker.data() + 2, kBig16);
    if (length < 2) return std::nullopt;
    at += 2 + length;
    while (scan) {  // up to a marker that is neither a stuffed byte nor a restart
      ByteView coded = rest.at(at, 1 << 16);
      if (coded.size() < 2) return std::nullopt;
      std::size_t i = 0;
      for (; i + 1 < coded.size(); ++i) {
        if (coded[i] != 0xff) continue;
        Byte next = coded[i + 1];
        if (next != 0 && next != 0xff && (next < kFirstRestart || next > kLastRestart)) break;
      }
      at += i;
      scan = i + 1 == coded.size();
    }
  }
}

/// GIF89a, sections 17 to 27: the screen, then blocks of sub-blocks up to the trailer.
std::optional<std::uint64_t> gif(const Rest& rest) {
  constexpr Byte kImage = 0x2c, kExtension = 0x21, kTrailer = 0x3b;
  auto table = [](Byte packed) { return (packed & 0x80) != 0 ? std::uint64_t{3} << ((packed & 7) + 1) : 0; };
  ByteView screen = rest.at(6, 7);
  if (screen.size() < 7) return std::nullopt;
  std::uint64_t at = 13 + table(screen[4]);
  for (;;) {
    ByteView head = rest.at(at, 11);
    if (head.empty()) return std::nullopt;
    if (head[0] == kTrailer) return at + 1;
    if (head[0] == kImage && head.size() >= 10)
      at += 11 + table(head[9]);
    else if (head[0] == kExtension)
      at += 2;
    else
      return std::nullopt;
    for (;;) {
      ByteView size = rest.at(at, 1);
      if (size.empty()) return std::nullopt;
      at += 1 + std::uint64_t{size[0]};
      if (size[0] == 0) break;
    }
  }
}

/// Resource Interchange File Format: the size behind the tag, then the kind of file.
std::optional<std::uint64_t> riff(const Rest& rest) {
  auto size = rest.number(4, kLittle32);
  if (!size || !is_type(rest.at(8, 4))) return std::nullopt;
  return within(rest, 8 + *size, 20);
}

/// EA IFF 85: the same with the highest byte first.
std::optional<std::uint64_t> iff(const Rest& rest) {
  auto size = rest.number(4, kBig32);
  if (!size || !is_type(rest.at(8, 4))) return std::nullopt;
  return within(rest, 8 + *size, 20);
}

/// Windows bitmap: BITMAPFILEHEADER, then a header whose size tells its version.
std::optional<std::uint64_t> bitmap(const Rest& rest) {
  constexpr std::array<std::uint64_t, 7> kHeaders = {12, 40, 52, 56, 64, 108, 124};
  auto size = rest.number(2, kLittle32), reserved = rest.number(6, kLittle32);
  auto data = rest.number(10, kLittle32), header = rest.number(14, kLittle32);
  if (!header || *reserved != 0 || *data >= *size) return std::nullopt;
  if (std::find(kHeaders.begin(), kHeaders.end(), *header) == kHeaders.end()) return std::nullopt;
  return within(rest, *size, 14 + *header);
}

/// Ogg (RFC 3533), section 6: pages, the last one of the stream has a flag.
std::optional<std::uint64_t> ogg(const Rest& rest) {
  constexpr std::size_t kHead = 27;
  constexpr Byte kLast = 4;
  for (std::uint64_t at = 0; at < rest.size();) {
    ByteView head = rest.at(at, kHead + 255);
    if (head.size() < kHead || as_text(head.first(4)) != "OggS" || head[4] != 0) break;
    std::size_t segments = head[26];
    if (head.size() < kHead + segments) return std::nullopt;
    bool last = (head[5] & kLast) != 0;
    at += kHead + segments;
    for (std::size_t i = 0; i < segments; ++i) at += head[kHead + i];
    if (last) return within(rest, at, kHead + 1);
  }
  return std::nullopt;
}

/// Standard MIDI Files 1.0: a header, then as many tracks as it tells.
std::optional<std::uint64_t> midi(const Rest& rest) {
  auto length = rest.number(4, kBig32), tracks = rest.number(10, kBig16);
  if (!tracks || *length != 6 || *tracks == 0) return std::nullopt;
  std::uint64_t at = 14;
  for (std::uint64_t i = 0; i < *tracks; ++i) {
    if (as_text(rest.at(at, 4)) != "MTrk") return std::nullopt;
    auto size = rest.number(at + 4, kBig32);
    if (!size) return std::nullopt;
    at += 8 + *size;
  }
  return within(rest, at, 22);
}

/// OpenType 1.9, "Organization of an OpenType Font": the table that ends last ends the font.
std::optional<std::uint64_t> font(const Rest& rest) {
  constexpr std::uint64_t kMostTables = 64;
  auto tables = rest.number(4, kBig16);
  if (!tables || *tables == 0 || *tables > kMostTables) return std::nullopt;
  std::uint64_t end = 0;
  for (std::uint64_t i = 0; i < *tables; ++i) {
    std::uint64_t at = 12 + 16 * i;
    if (!is_type(rest.at(at, 4))) return std::nullopt;
    auto offset = rest.number(at + 8, kBig32), length = rest.number(at + 12, kBig32);
    if (!length || *offset < 12 + 16 * *tables) return std::nullopt;
    end = std::max(end, *offset + *length);
  }
  return within(rest, end, 28);
}

/// WOFF 1.0, section 3: the length behind the flavour.
std::optional<std::uint64_t> web_font(const Rest& rest) {
  auto length = rest.number(8, kBig32), reserved = rest.number(14, kBig16);
  return reserved && *reserved == 0 ? within(rest, *length, 44) : std::nullopt;
}

/// glTF 2.0, "GLB File Format": version and length.
std::optional<std::uint64_t> binary_gltf(const Rest& rest) {
  auto version = rest.number(4, kLittle32), length = rest.number(8, kLittle32);
  return length && *version == 2 ? within(rest, *length, 20) : std::nullopt;
}

/// DirectDraw surfaces: a header of 124 bytes; what follows depends on the pixels' form.
std::optional<std::uint64_t> surface(const Rest& rest) {
  auto header = rest.number(4, kLittle32);
  return header && *header == 124 ? std::optional<std::uint64_t>(0) : std::nullopt;
}

/// FLAC (RFC 9639), section 8: metadata begins with the stream's own block of 34 bytes.
std::optional<std::uint64_t> flac(const Rest& rest) {
  auto head = rest.number(4, kBig32);
  return head && (*head & 0x7fffffff) == 34 ? std::optional<std::uint64_t>(0) : std::nullopt;
}

struct Kind {
  std::string_view mark, what;
  Length length;
};

constexpr Kind kKinds[] = {
    {"\x89PNG\r\n\x1a\n", "PNG picture", png},
    {"\xff\xd8\xff", "JPEG picture", jpeg},
    {"GIF87a", "GIF picture", gif},
    {"GIF89a", "GIF picture", gif},
    {"RIFF", "RIFF file", riff},
    {"FORM", "IFF file", iff},
    {"BM", "bitmap picture", bitmap},
    {"OggS", "Ogg stream", ogg},
    {"MThd", "MIDI file", midi},
    {{"\x00\x01\x00\x00", 4}, "TrueType font", font},
    {"OTTO", "OpenType font", font},
    {"wOFF", "WOFF font", web_font},
    {"glTF", "glTF model", binary_gltf},
    {"DDS ", "DDS picture", surface},
    {"fLaC", "FLAC sound", flac},
};

/// A bit for each two bytes: whether a mark begins with them.
using Beginnings = std::array<std::uint64_t, (1 << 16) / 64>;

constexpr Beginnings kBeginnings = [] {
  Beginnings bits{};
  for (const Kind& kind : kKinds) {
    unsigned pair = static_cast<Byte>(kind.mark[0]) | static_cast<unsigned>(static_cast<Byte>(kind.mark[1]))
                                                          << 8;
    bits[pair / 64] |= std::uint64_t{1} << pair % 64;
  }
  return bits;
}();

/// The next place from `at` on where a mark may begin; `end` where there is none before it. A byte follows
/// it.
std::size_t next_beginning(const Byte* bytes, std::size_t at, std::size_t end) {
  for (; at < end; ++at) {
    unsigned pair = load_little<std::uint16_t>(bytes + at);
    if ((kBeginnings[pair / 64] >> pair % 64 & 1) != 0) break;
  }
  return at;
}

/// The leaf at `at`, where `near` begins.
std::optional<Leaf> leaf_at(const Source& file, std::uint64_t at, ByteView near, std::uint64_t& looks) {
  for (const Kind& kind : kKinds) {
    if (!starts_with(near, kind.mark)) continue;
    if (auto length = kind.length(Rest(file, at, near, looks))) return Leaf{at, at + *length, kind.what};
  }
  return std::nullopt;
}

}  // namespace

std::vector<Leaf> find_leaves(const Source& file, std::size_t most) {
  std::vector<Leaf> leaves;
  std::uint64_t looks = kMostLooks;
  Bytes window(kWindow + kLongestMark);
  for (std::uint64_t from = 0; from < file.size() && leaves.size() < most;) {
    std::size_t size = file.read_at(from, window);
    if (size < kShortestMark) break;
    std::size_t end = from + size == file.size() ? size - 1 : size - kLongestMark, i = 0;
    for (; leaves.size() < most && (i = next_beginning(window.data(), i, end)) < end; ++i) {
      auto leaf = leaf_at(file, from + i, ByteView(window).first(size).subspan(i), looks);
      if (!leaf) continue;
      leaves.push_back(*leaf);
      if (leaf->end > from + end) {
        i = static_cast<std::size_t>(leaf->end - from);
        break;
      }
      if (leaf->end > leaf->begin) i = static_cast<std::size_t>(leaf->end - from) - 1;
    }
    from += std::max<std::size_t>(i, 1);
  }
  return leaves;
}

std::optional<Leaf> leaf_in_front(const Source& file) {
  std::uint64_t looks = kMostLooks;
  Bytes front = read_up_to(file, 0, kWindow);
  return leaf_at(file, 0, front, looks);
}

std::vector<std::string_view> leaf_marks() {
  std::vector<std::string_view> marks;
  for (const Kind& kind : kKinds) marks.push_back(kind.mark);
  return marks;
}

}  // namespace operculum::study
