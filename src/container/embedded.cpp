#include "container/embedded.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "codec/deflate_front.h"
#include "container/marks.h"

namespace operculum {
namespace {

constexpr std::size_t kBlock = 1 << 20, kOverlap = 512 + kDeflateHeadSize;
constexpr unsigned kMostLooks = 20000;                        // marks looked at
constexpr unsigned kMostTrials = 64, kThoroughTrials = 1000;  // formats opened in vain
constexpr std::size_t kTrial = 4096;                          // bytes of a stream that have to decode
constexpr std::uint64_t kMostDecoded = 256 << 20;             // packed bytes of deflate data, in vain

const Format* format_by_id(std::string_view id) {
  auto format =
      std::find_if(formats().begin(), formats().end(), [&](const Format& one) { return one.id == id; });
  return format == formats().end() ? nullptr : &*format;
}

/// The first of a mark's formats that recognises the bytes from their first one on; nothing when none does.
const Format* recognise_marked(const Mark& mark, Probe& probe) {
  for (std::string_view id : mark.formats) {
    const Format* format = format_by_id(id);
    if (format != nullptr && format->recognise(probe) == Match::front) return format;
  }
  return nullptr;
}

bool is_zlib_head(const Byte* head) {
  return head[0] == 0x78 && (head[0] * 256 + head[1]) % 31 == 0;
}

class Finder {
 public:
  Finder(const SourcePtr& bytes, std::uint64_t at, std::uint64_t end, OpenContext& context,
         EmbeddedSearch search)
      : bytes_(bytes), begin_(at), at_(at), end_(end), context_(context), search_(search) {}

  std::vector<Embedded> find() {
    Bytes room(kBlock + kOverlap + MarkTable::kKey);  // so that a look at the last byte stays within
    while (at_ < end_ && found_.size() < search_.most && looks_ < kMostLooks && trials_ < most_trials_) {
      auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(kBlock + kOverlap, end_ - at_));
      ByteView block(room.data(), bytes_->read_at(at_, std::span(room).first(wanted)));
      std::size_t most = std::min(block.size(), kBlock);
      std::uint64_t next = at_ + most;
      mark_ = front_ = kUnknownPlace;
      for (std::size_t i = next_look(block, 0, most); i < most; i = next_look(block, i + 1, most)) {
        if (auto past = look(block, i)) {
          free_from_ = *past;
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
  static constexpr std::size_t kUnknownPlace = SIZE_MAX;

  static const MarkTable& table() {
    static const MarkTable made;  // by the first search, not when the program starts
    return made;
  }

  /// The first place from `from` on where something may begin; `most` when there is none.
  std::size_t next_look(ByteView block, std::size_t from, std::size_t most) {
    if (mark_ == kUnknownPlace || mark_ < from) mark_ = table().next(block.data(), from, most);
    if (search_.deflate && (front_ == kUnknownPlace || front_ < from))
      front_ = fronts_.next(block, from, most);
    return std::min(mark_, front_);
  }

  /// Where to go on behind what begins in the block at `i`; nothing when nothing does.
  std::optional<std::uint64_t> look(ByteView block, std::size_t i) {
    std::optional<std::uint64_t> past;
    if (i == mark_) past = look_at_marks(block.subspan(i), at_ + i);
    return !past && i == front_ ? look_at_deflate(block, i) : past;
  }

  std::optional<std::uint64_t> look_at_marks(ByteView front, std::uint64_t at) {
    for (const Mark* mark : table().of(front[0])) {
      if (!starts_with(front, mark->bytes) || at < begin_ + mark->within) continue;
      std::uint64_t begin = at - mark->within;
      std::optional<std::uint64_t> stated = size_of(*mark, *bytes_, begin, end_);
      std::uint64_t size = std::min(stated.value_or(UINT64_MAX), end_ - begin);
      if (looks_++ >= kMostLooks || trials_ >= most_trials_) return end_;
      std::uint64_t reach = 0;
      if (const Format* format = opened(*mark, begin, size, reach)) {
        if (stated && reach > size) stated = size = std::min(reach, end_ - begin);
        if (search_.thorough && mark->far_end != nullptr) {
          stated = mark->far_end(bytes_, begin, end_, may_decode_);
          if (*stated == 0) stated.reset();
          size = stated.value_or(size);
        }
        add({begin, size, format, stated.has_value()});
        --trials_;  // only what is passed over counts
        bool goes_on = search_.thorough && format->single_stream && !stated;
        return goes_on ? at + mark->bytes.size() : begin + size;
      }
    }
    return std::nullopt;
  }

  /// Deflate data, with or without the wrapper of zlib, that decodes to its end. What has the wrapper's
  /// header has to have its checksum, too: data that is kept in pieces decodes somehow. That of a picture
  /// (PNG) is no container.
  std::optional<std::uint64_t> look_at_deflate(ByteView block, std::size_t i) {
    constexpr std::size_t kZlibHead = 2;
    constexpr std::uint64_t kLeastPlain = 512;  // bytes
    std::uint64_t at = at_ + i;
    if (i >= kZlibHead && at >= free_from_ + kZlibHead && is_zlib_head(block.data() + i - kZlibHead)) {
      if (as_text(block.first(i - kZlibHead)).ends_with("IDAT")) return std::nullopt;
      auto extent = deflate_extent(bytes_, at - kZlibHead, end_, "zlib", may_decode_);
      return extent ? std::optional(add({at - kZlibHead, extent->packed, format_by_id("zlib"), true}))
                    : std::nullopt;
    }
    auto extent = deflate_extent(bytes_, at, end_, "deflate", may_decode_);
    if (!extent || extent->plain < kLeastPlain) return std::nullopt;
    return add({at, extent->packed, format_by_id("deflate"), true});
  }

  /// Keeps what was found; returns where it ends.
  std::uint64_t add(const Embedded& one) {
    if (!found_.empty() && !found_.back().end_stated) found_.back().size = one.at - found_.back().at;
    found_.push_back(one);
    return one.at + one.size;
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
          if (entry.stored_size != Entry::kUnknownSize && entry.stored_at < UINT64_MAX - entry.stored_size)
            reach = std::max(reach, entry.stored_at + entry.stored_size);
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
  std::uint64_t may_decode_ = kMostDecoded, free_from_ = begin_;
  DeflateFronts fronts_;
  std::size_t mark_ = 0, front_ = SIZE_MAX;  // the next ones in the block
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
