#include "container/embedded.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/cursor.h"
#include "base/error.h"
#include "container/identify.h"

namespace operculum {
namespace {

constexpr std::size_t kBlock = 1 << 20, kOverlap = 512, kMostFound = 1000;
constexpr unsigned kMostLooks = 20000, kMostTrials = 64;  // marks looked at; formats opened
constexpr std::size_t kTrial = 4096;                      // bytes of a stream that have to decode

/// What a container begins with.
struct Mark {
  std::string_view bytes;
  std::size_t within = 0;   ///< where in the container the mark is
  std::size_t size_at = 0;  ///< where a 32-bit little-endian total size is; 0: nowhere
};

constexpr Mark kMarks[] = {
    {std::string_view("MSCF\0\0\0\0", 8), 0, 8},
    {"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"},
    {"PK\x03\x04"},
    {std::string_view("\xFD"
                      "7zXZ\0",
                      6)},
    {"\x28\xB5\x2F\xFD"},
    {"\x1F\x8B\x08"},
    {"BZh91AY&SY"},
    {"hsqs"},
    {"070701"},
    {"!<arch>\n"},
    {"ustar", 257},
    {"\xED\xAB\xEE\xDB"},
    {"xar!"},
    {std::string_view("MSWIM\0\0\0", 8)},
};

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
  Finder(const SourcePtr& bytes, std::uint64_t at, std::uint64_t end, OpenContext& context)
      : bytes_(bytes), begin_(at), at_(at), end_(end), context_(context) {}

  std::vector<Embedded> find() {
    static const MarkTable table;
    Bytes block;
    while (at_ < end_ && found_.size() < kMostFound && looks_ < kMostLooks && trials_ < kMostTrials) {
      block = read_up_to(*bytes_, at_, std::min<std::uint64_t>(kBlock + kOverlap, end_ - at_));
      std::size_t most = std::min(block.size(), kBlock);
      std::uint64_t next = at_ + most;
      for (std::size_t i = 0; i < most; ++i) {
        if (!table.any(block[i])) continue;
        if (auto past = look(ByteView(block).subspan(i), at_ + i, table.of(block[i]))) {
          if (*past >= end_) return std::move(found_);
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
      std::uint64_t begin = at - mark.within, size = end_ - begin;
      if (mark.size_at != 0 && front.size() >= mark.size_at + 4) {
        std::uint64_t stated = load_little<std::uint32_t>(front.data() + mark.size_at);
        if (stated != 0) size = std::min(size, stated);
      }
      if (looks_++ >= kMostLooks || trials_ >= kMostTrials) return end_;
      if (const Format* format = opened(begin, size)) {
        found_.push_back({begin, size, format});
        --trials_;  // only what is passed over counts
        return begin + size;
      }
    }
    return std::nullopt;
  }

  const Format* opened(std::uint64_t at, std::uint64_t size) {
    SourcePtr part = make_slice(bytes_, at, size);
    Probe probe(part, "");
    const Format* format = recognise_at_front(probe);
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
    } catch (const Error&) {
      return nullptr;
    }
  }

  const SourcePtr& bytes_;
  std::uint64_t begin_, at_, end_;
  OpenContext& context_;
  unsigned looks_ = 0, trials_ = 0;
  std::vector<Embedded> found_;
};

}  // namespace

std::vector<Embedded> find_embedded(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size,
                                    OpenContext& context) {
  std::uint64_t end = std::min(bytes->size(), at + std::min(size, bytes->size()));
  return Finder(bytes, at, end, context).find();
}

std::string name_of(const Embedded& embedded) {
  std::string_view ending =
      embedded.format->suffixes.empty() ? std::string_view() : embedded.format->suffixes.front();
  return fmt::format("offset-{:08x}{}", embedded.at, ending);
}

}  // namespace operculum
