// An initramfs of several archives (Linux kernel documentation, driver-api/early-userspace/buffer-format):
// cpio archives one behind another with zeros between, of which the first, with microcode for the processor,
// is not packed and the main one is.
#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "container/identify.h"
#include "format/archive/cpio_header.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "io/cached_source.h"

namespace operculum {
namespace {

constexpr std::size_t kMostMembers = 4096, kMostArchives = 64;
constexpr std::uint64_t kMostZeros = 1 << 20;
constexpr std::size_t kLongestName = 4096;

/// The form of the archive that begins so, if it is one that the kernel reads.
const cpio::VariantInfo* form_of(ByteView head) {
  const cpio::VariantInfo* info = head.size() < 6 ? nullptr : cpio::variant_of(head);
  bool known =
      info != nullptr && (info->variant == cpio::Variant::newc || info->variant == cpio::Variant::crc);
  return known ? info : nullptr;
}

/// Where the archive that begins at `at` ends, behind its trailer; nothing when it is no whole archive in the
/// form that the kernel reads.
std::optional<std::uint64_t> archive_end(const Source& bytes, std::uint64_t at) {
  for (std::size_t i = 0; i < kMostMembers; ++i) {
    Bytes raw =
        read_up_to(bytes, at, cpio::info_of(cpio::Variant::newc).header_size + cpio::kTrailerName.size());
    const cpio::VariantInfo* form = form_of(raw);
    if (form == nullptr || raw.size() <= form->header_size) return std::nullopt;
    cpio::Header header;
    try {
      header = cpio::read_header(raw, at, *form);
    } catch (const Malformed&) {
      return std::nullopt;
    }
    if (header.namesize == 0 || header.namesize > kLongestName) return std::nullopt;
    std::uint64_t name_end = form->header_size + header.namesize;
    at += name_end + cpio::padding_to(name_end, form->alignment) + header.filesize +
          cpio::padding_to(header.filesize, form->alignment);
    if (as_text(raw).substr(form->header_size) == cpio::kTrailerName) return at;
  }
  return std::nullopt;
}

std::uint64_t behind_zeros(const Source& bytes, std::uint64_t at) {
  for (std::uint64_t end = std::min(bytes.size(), at + kMostZeros); at < end;) {
    Bytes block = read_up_to(bytes, at, std::min<std::uint64_t>(4096, end - at));
    auto other = std::find_if(block.begin(), block.end(), [](Byte b) { return b != 0; });
    at += static_cast<std::uint64_t>(other - block.begin());
    if (other != block.end()) break;
  }
  return at;
}

struct Archive {
  std::uint64_t at = 0, size = 0;
  const Format* packing = nullptr;  ///< null: a plain archive
};

/// The archives up to the first packed one, which takes the rest; empty where they are all plain, for a plain
/// cpio archive may go on in another.
std::vector<Archive> archives_of(const SourcePtr& whole) {
  SourcePtr bytes = make_cached(whole);
  std::vector<Archive> found;
  std::uint64_t at = 0;
  while (found.size() < kMostArchives) {
    auto end = archive_end(*bytes, at);
    if (!end) break;
    found.push_back({at, *end - at});
    at = behind_zeros(*bytes, *end);
  }
  if (found.empty() || at >= bytes->size()) return {};
  Probe rest(make_slice(whole, at, bytes->size() - at), "");
  const Format* packing = recognise(rest);
  if (packing == nullptr || !packing->single_stream) return {};
  found.push_back({at, bytes->size() - at, packing});
  return found;
}

Match recognise_initramfs(Probe& probe) {
  bool begins = form_of(probe.head(6)) != nullptr;
  return begins && probe.source() && !archives_of(probe.source()).empty() ? Match::front : Match::none;
}

ContainerPtr open_initramfs(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  std::vector<Archive> archives = archives_of(bytes);
  if (archives.empty()) throw Malformed("initramfs: no packed archive follows the plain ones");
  Firmware out;
  for (std::size_t i = 0; i < archives.size(); ++i) {
    const Archive& one = archives[i];
    std::string path = one.packing == nullptr ? fmt::format("early-{}.cpio", i + 1)
                                              : fmt::format("main.cpio{}", one.packing->suffixes.front());
    std::string type = one.packing == nullptr ? "archive read first" : "archive read last";
    out.parts.push_back({.path = path, .type = type, .at = one.at, .size = one.size});
  }
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format initramfs_format() {
  return {.id = "initramfs",
          .name = "initramfs of several archives",
          .family = "firmware",
          .specification = "Linux kernel documentation, early-userspace/buffer-format",
          .reads = "plain archives in front of a packed one",
          .lacks = "archives behind the packed one",
          .suffixes = {},
          .recognise = recognise_initramfs,
          .open = open_initramfs};
}

}  // namespace operculum
