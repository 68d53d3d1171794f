#include "container/embedded.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/cursor.h"
#include "base/error.h"

namespace operculum {
namespace {

constexpr std::size_t kBlock = 1 << 20, kOverlap = 512;
constexpr unsigned kMostLooks = 20000;                        // marks looked at
constexpr unsigned kMostTrials = 64, kThoroughTrials = 1000;  // formats opened in vain
constexpr std::size_t kTrial = 4096;                          // bytes of a stream that have to decode

constexpr std::string_view kZipMark = "PK\x03\x04", kZipEnd = "PK\x05\x06";

/// What a container begins with.
struct Mark {
  std::string_view bytes;
  std::array<std::string_view, 2> formats;  ///< ids of those that begin so, in the order they are tried in
  std::size_t within = 0;                   ///< where in the container the mark is
  std::size_t size_at = 0;                  ///< where a little-endian total size is; 0: nowhere
  bool wide = false;                        ///< that size has 64 bits, else 32
};

constexpr Mark kMarks[] = {
    {std::string_view("MSCF\0\0\0\0", 8), {"cab"}, 0, 8},
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
    {"hsqs", {"squashfs"}, 0, 40, true},
    {"\xE2\xE1\xF5\xE0", {"erofs"}, 1024},
    {"\x45\x3D\xCD\x28", {"cramfs"}, 0, 4},
    {"-rom1fs-", {"romfs"}},
    {"070701", {"cpio"}},
    {"!<arch>\n", {"deb", "ar"}},
    {"ustar", {"tar"}, 257},
    {"\xED\xAB\xEE\xDB", {"rpm"}},
    {"xar!", {"xar"}},
    {std::string_view("MSWIM\0\0\0", 8), {"wim"}},
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

/// The total size that is stated behind a mark; nothing when none is.
std::optional<std::uint64_t> stated_size(const Mark& mark, ByteView front) {
  if (mark.size_at == 0 || front.size() < mark.size_at + 8) return std::nullopt;
  const Byte* field = front.data() + mark.size_at;
  std::uint64_t size = mark.wide ? load_little<std::uint64_t>(field) : load_little<std::uint32_t>(field);
  return size == 0 ? std::nullopt : std::optional(size);
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

/// The marks that begin with a byte, for a quick look at each.
class MarkTable {
 public:
  MarkTable() {
    for (std::size_t i = 0; i < std::size(kMarks); ++i)
      by_first_[static_cast<Byte>(kMarks[i].bytes[0])].push_back(i);
    for (std::size_t i = 0; i < by_first_.size(); ++i) any_[i] = !by_first_[i].empty();
  }
  bool any(Byte first) const { return any_[first]; }
  const std::vector<std::size_t>& of(Byte first) const { return by_first_[first]; }

 private:
  std::array<std::vector<std::size_t>, 256> by_first_;
  std::array<bool, 256> any_{};
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
      std::uint64_t next = at_ + most;
      for (std::size_t i = 0; i < most; ++i) {
        if (!table.any(block[i])) continue;
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
      std::optional<std::uint64_t> stated = stated_size(mark, front);
      std::uint64_t size = std::min(stated.value_or(UINT64_MAX), end_ - begin);
      if (looks_++ >= kMostLooks || trials_ >= most_trials_) return end_;
      if (const Format* format = opened(mark, begin, size)) {
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

  const Format* opened(const Mark& mark, std::uint64_t at, std::uint64_t size) {
    SourcePtr part = make_slice(bytes_, at, size);
    Probe probe(part, "");
    const Format* format = recognise_marked(mark, probe);
    if (format == nullptr) return nullptr;
    ++trials_;
    try {
      ContainerPtr container = format->open({make_content(part), "", nullptr}, context_);
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
