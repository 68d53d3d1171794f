#include "format/firmware/uefi_sections.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/numbers.h"
#include "codec/codec.h"
#include "codec/lzh.h"
#include "codec/x86_branches.h"
#include "format/firmware/uefi_names.h"
#include "format/firmware/uefi_records.h"
#include "io/digest.h"

namespace operculum::uefi {
namespace {

constexpr std::uint64_t kShortHeader = size_on_disk<SectionHeader>;
constexpr std::uint64_t kLongHeader = kShortHeader + size_on_disk<ExtendedSize>;
constexpr std::uint64_t kLargest = std::uint64_t{1} << 30;  // bytes that come out of a section

/// What a section may hold: a few bytes can be made to unpack to any size.
class Bounded final : public Stream {
 public:
  explicit Bounded(StreamPtr inner) : inner_(std::move(inner)) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    done_ += count;
    if (done_ > kLargest) throw LimitExceeded("a packed section of more than 1 GiB");
    return count;
  }

 private:
  StreamPtr inner_;
  std::uint64_t done_ = 0;
};

SourcePtr spool_bounded(StreamPtr plain, SpoolBudget& budget) {
  Bounded bounded(std::move(plain));
  return spool(bounded, budget);
}

// ---- the ways of packing

SourcePtr open_lzma_section(StreamPtr packed, SpoolBudget& budget) {
  return spool_bounded(open_decoder("lzma-alone", std::move(packed)), budget);
}

/// The same with the filter for x86 code, which needs all of it at once.
SourcePtr open_filtered_section(StreamPtr packed, SpoolBudget&) {
  Bytes all = read_all(*open_decoder("lzma-alone", std::move(packed)), kLargest);
  restore_x86_branches(all);
  return make_memory_source(std::move(all));
}

/// In front of the stream stand its unpacked size and how much room its decoder wants, 64 bits each.
SourcePtr open_brotli_section(StreamPtr packed, SpoolBudget& budget) {
  packed->skip(16);
  return spool_bounded(open_decoder("brotli", std::move(packed)), budget);
}

/// UEFI specification 2.10, section 19: sizes packed and unpacked, then codes as in lzh files; positions have
/// codes of 4 bits' length numbers in the first form, and 5 in the second, whose window is larger.
SourcePtr open_standard(StreamPtr packed, SpoolBudget& budget, unsigned window_bits) {
  Bytes head(size_on_disk<StandardPacking>);
  if (read_fully(*packed, head) < head.size()) throw CutShort("the packed section ends within its header");
  std::uint32_t size = read_structure<StandardPacking>(head.data()).original_size;
  if (size > kLargest) throw Unsupported("a packed section of more than 1 GiB");
  StreamPtr plain = open_lzh(std::move(packed), window_bits, size);
  return spool(*plain, budget);
}
constexpr unsigned kFirstWindow = 13, kSecondWindow = 19;

SourcePtr open_tiano_section(StreamPtr packed, SpoolBudget& budget) {
  return open_standard(std::move(packed), budget, kSecondWindow);
}

struct Packing {
  std::string_view guid, name, method;
  SourcePtr (*open)(StreamPtr packed, SpoolBudget& budget);
};
constexpr Packing kPackings[] = {
    {"ee4e5898-3914-4259-9d6e-dc7bd79403cf", "LZMA", "lzma-alone", open_lzma_section},
    {"d42ae6bd-1352-4bfb-909a-ca72a6eae889", "LZMA with a filter for x86 code", "lzma-x86",
     open_filtered_section},
    {"3d532050-5cda-4fd0-879e-0f7f630d5afb", "Brotli", "brotli", open_brotli_section},
    {"a31280ad-481e-41b6-95e8-127f4c984779", "Tiano compression", "tiano", open_tiano_section},
};
constexpr std::string_view kCrc32 = "fc1bcdb0-7d31-49aa-936a-a4600d9dd083";

Unwrapped unwrap_packed(const SourcePtr& bytes, const Section& section, SpoolBudget& budget) {
  constexpr std::size_t head_size = size_on_disk<CompressionHead>;
  Bytes raw = read_exactly(*bytes, section.data, head_size, "packed section");
  auto head = read_structure<CompressionHead>(raw.data());
  std::uint64_t at = section.data + head_size, size = section.end - at;
  if (head.CompressionType == 0) return {.bytes = bytes, .at = at, .name = "nothing"};
  if (head.CompressionType != 1)
    throw Unsupported(fmt::format("a section packed by method {}", head.CompressionType));
  Unwrapped out{.packed = true, .name = "EFI standard compression", .method = "efi"};
  out.bytes = unpack_standard(bytes, at, size, budget, [](const Source& plain) {
    return read_section(plain, 0, plain.size()).has_value();
  });
  if (out.bytes->size() != head.UncompressedLength)
    out.fault = fmt::format("{} bytes are stated, {} came out", head.UncompressedLength, out.bytes->size());
  return out;
}

std::uint32_t crc_of(const SourcePtr& bytes, std::uint64_t at, std::uint64_t end) {
  StreamPtr stream = make_source_stream(bytes, at, end - at);
  return sums_of_stream(*stream, Sums::crc32, [](std::uint64_t) {}).crc32.value_or(0);
}

Unwrapped unwrap_guided(const SourcePtr& bytes, const Section& section, SpoolBudget& budget) {
  constexpr std::size_t head_size = size_on_disk<GuidedHead>;
  Bytes raw = read_exactly(*bytes, section.data, head_size, "guided section");
  auto head = read_structure<GuidedHead>(raw.data());
  const Guid& guid = head.SectionDefinitionGuid;
  std::uint64_t at = section.at + head.DataOffset;
  bool needs_work = (head.Attributes & GuidedHead::processing_required) != 0;
  Unwrapped out{.name = name_or_text(guid)};
  if (at < section.data + head_size || at > section.end)
    throw Malformed("a guided section whose data lies outside of it");
  for (const Packing& one : kPackings) {
    if (!is(guid, one.guid)) continue;
    out.name = one.name;
    out.method = one.method;
    out.packed = true;
    out.bytes = one.open(make_source_stream(bytes, at, section.end - at), budget);
    return out;
  }
  if (is(guid, kCrc32) && at >= section.data + head_size + sizeof(std::uint32_t)) {
    Bytes stored =
        read_exactly(*bytes, section.data + head_size, sizeof(std::uint32_t), "checksum of a section");
    if (std::uint32_t found = crc_of(bytes, at, section.end),
        expected = load_little<std::uint32_t>(stored.data());
        found != expected)
      out.fault = fmt::format("its checksum does not fit: expected {:08x}, found {:08x}", expected, found);
    needs_work = false;
  }
  if (needs_work && !is(guid, "a7717414-c616-4977-9420-844712a735bf")) {
    out.fault = fmt::format("Unsupported: sections packed by {}", out.name);
    return out;
  }
  out.bytes = bytes;
  out.at = at;
  return out;
}

}  // namespace

std::optional<Section> read_section(const Source& bytes, std::uint64_t at, std::uint64_t end) {
  Bytes raw = read_up_to(bytes, at, kLongHeader);
  if (raw.size() < kShortHeader) return std::nullopt;
  auto header = read_structure<SectionHeader>(raw.data());
  std::uint64_t size = header.Size, head = kShortHeader;
  if (size == SectionHeader::extended && raw.size() == kLongHeader) {
    size = read_structure<ExtendedSize>(raw.data() + kShortHeader).Size;
    head = kLongHeader;
  }
  if (size < head || size > end - at) return std::nullopt;
  return Section{at, at + head, at + size, header.Type};
}

/// Both forms begin alike, and nothing says which it is: the first one is tried, then the other.
SourcePtr unpack_standard(const SourcePtr& bytes, std::uint64_t at, std::uint64_t size, SpoolBudget& budget,
                          const std::function<bool(const Source& plain)>& fits) {
  try {
    SourcePtr plain = open_standard(make_source_stream(bytes, at, size), budget, kFirstWindow);
    if (fits(*plain)) return plain;
  } catch (const Malformed&) {
    // the other form
  }
  return open_standard(make_source_stream(bytes, at, size), budget, kSecondWindow);
}

Unwrapped unwrap(const SourcePtr& bytes, const Section& section, SpoolBudget& budget) {
  try {
    return section.type == Section::packed ? unwrap_packed(bytes, section, budget)
                                           : unwrap_guided(bytes, section, budget);
  } catch (const Unsupported& error) {
    return {.name = "packed", .fault = error.what()};
  } catch (const Malformed& error) {
    return {.name = "packed", .fault = error.what()};
  }
}

}  // namespace operculum::uefi
