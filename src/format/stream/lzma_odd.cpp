// LZMA streams whose header is not that of .lzma files (LZMA specification, 2015): devices keep the five
// bytes of properties and window alone, or with a size of 32 bits in front of them or behind. Nothing in them
// is a mark, so the front must decode, and to its end where a size tells where that is.
#include <array>

#include "base/error.h"
#include "base/numbers.h"
#include "codec/codec.h"
#include "codec/lzma_head.h"
#include "container/identify.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"
#include "io/counted_stream.h"

namespace operculum {
namespace {

constexpr std::size_t kProperties = 5, kConvincing = 4096;  // bytes
constexpr std::uint32_t kLeastWindow = 1 << 16, kMostWindow = 1 << 27;

/// Where the parts of a header lie, in bytes from the front.
struct Form {
  std::string_view what;
  std::size_t properties_at, data_at;
  std::size_t size_width = 0, size_at = 0;  ///< width 0: no size
  std::endian order = std::endian::little;
};
constexpr Form kForms[] = {
    {"a size of 32 bits behind the window", 0, 9, 4, 5},
    {"a size of 32 bits in front", 4, 9, 4, 0},
    {"a big-endian size of 32 bits in front", 4, 9, 4, 0, std::endian::big},
    {"a size of 64 bits in front", 8, 13, 8, 0},
    {"no size", 0, 5},
};
constexpr std::size_t kMostHead = 14;

struct Head {
  const Form* form;
  Bytes properties;
  std::optional<std::uint64_t> size;  // unpacked, in bytes
};

bool is_window(std::uint32_t size) {
  return is_usual_lzma_window(size) && size >= kLeastWindow && size <= kMostWindow;
}

/// What a header of this form would say; nothing when it cannot be one.
std::optional<Head> head_as(const Form& form, ByteView front) {
  constexpr std::uint64_t kLeastUnpacked = 64, kMostUnpacked = 256 << 20;
  if (front.size() < kMostHead || !are_usual_lzma_properties(front[form.properties_at]) ||
      front[form.data_at] != 0)
    return std::nullopt;  // the first byte of the range coder is always 0
  if (!is_window(static_cast<std::uint32_t>(
          load_number(front.data() + form.properties_at + 1, 4, std::endian::little))))
    return std::nullopt;
  const Byte* properties = front.data() + form.properties_at;
  Head head{&form, Bytes(properties, properties + kProperties), std::nullopt};
  if (form.size_width == 0) return head;
  head.size = load_number(front.data() + form.size_at, form.size_width, form.order);
  return *head.size >= kLeastUnpacked && *head.size <= kMostUnpacked ? std::optional(head) : std::nullopt;
}

/// Whether the data decodes as a header says: its front, and where a size is told, all of it. A few bytes can
/// be made to decode to any size, so that not more is tried than usual data gives.
bool decodes(const Head& head, const SourcePtr& bytes) {
  constexpr std::uint64_t kFree = 1 << 20, kMostRatio = 16;
  CodecOptions options{.properties = head.properties, .unpacked_size = head.size, .note = {}};
  SourcePtr packed = make_slice(bytes, head.form->data_at, bytes->size() - head.form->data_at);
  std::uint64_t taken = 0, made = 0;
  try {
    StreamPtr stream = open_decoder(
        "lzma", std::make_unique<CountedStream>(make_source_stream(std::move(packed)), taken), options);
    Bytes some(kConvincing);
    while (std::size_t count = read_fully(*stream, some)) {
      made += count;
      if (!head.size) return made == kConvincing;
      if (made > kFree + taken * kMostRatio) return false;
    }
    return head.size && made == *head.size;
  } catch (const std::exception&) {
    return false;
  }
}

/// The form that fits bytes of which `front` is the front. A size decides, so forms with one come first.
std::optional<Head> find_head(ByteView front, const SourcePtr& bytes) {
  for (const Form& form : kForms) {
    auto head = head_as(form, front);
    if (head && decodes(*head, bytes)) return head;
  }
  return std::nullopt;
}

Match recognise_odd_lzma(Probe& probe) {
  ByteView head = probe.head(kMostHead);
  const Bytes front(head.begin(), head.end());  // the next look may move what the probe keeps
  bool possible = std::any_of(std::begin(kForms), std::end(kForms),
                              [&](const Form& form) { return head_as(form, front).has_value(); });
  if (!possible) return Match::none;
  ByteView reach = probe.head(Probe::kReach);
  SourcePtr bytes = probe.source() ? probe.source() : make_memory_source(Bytes(reach.begin(), reach.end()));
  return find_head(front, bytes) ? Match::front : Match::none;
}

ContainerPtr open_odd_lzma(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  auto head = find_head(read_up_to(*bytes, 0, kMostHead), bytes);
  if (!head) throw Malformed("LZMA: no header that is known fits the data");
  SingleStream stream{.codec = "lzma", .size = head->size};
  stream.properties = head->properties;
  stream.data_at = head->form->data_at;
  stream.facts.emplace_back("header", "properties with " + std::string(head->form->what));
  return make_single_stream(input, std::move(stream), {{".lzma", ""}});
}

}  // namespace

Format odd_lzma_format() {
  return {.id = "lzma-odd",
          .name = "LZMA stream with a header of its own kind",
          .family = "stream",
          .specification = "LZMA specification (2015)",
          .reads = "properties without a size, or with one of 32 or 64 bits in front or behind",
          .lacks = "properties other than lc 0, 3 and 4 with lp 0, and lc 0 to 2 with lp 2; pb other than 2",
          .suffixes = {},
          .single_stream = true,
          .forward = true,
          .recognise = recognise_odd_lzma,
          .open = open_odd_lzma};
}

}  // namespace operculum
