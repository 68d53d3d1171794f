#include <fmt/format.h>

#include "base/text.h"
#include "format/first_file.h"
#include "format/image/disk_image.h"
#include "format/volume/formats.h"
#include "format/volume/integrity.h"
#include "format/volume/luks.h"
#include "io/locked_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace luks;

Match recognise_luks(Probe& probe) {
  ByteView head = probe.head(8);
  constexpr std::size_t kVersionAt = 7;
  return head.size() == 8 && starts_with(head, kMark) && head[kVersionAt - 1] == 0 && head[kVersionAt] >= 1 &&
                 head[kVersionAt] <= 2
             ? Match::front
             : Match::none;
}

std::string slots_text(const Header& header) {
  std::string out = fmt::format("{}", header.slots.size());
  for (const Slot& slot : header.slots)
    out += fmt::format("{} {}", &slot == &header.slots.front() ? ":" : ",", slot.derivation.kind);
  return out;
}

SourcePtr decrypted(const Input& input, OpenContext& context, const Header& header, const SourcePtr& head,
                    const SourcePtr& file) {
  std::uint64_t size = std::min(header.data_size.value_or(UINT64_MAX), file->size() - header.data_at);
  size = size / header.sector_size * header.sector_size;
  return make_locked(size, [head, file, header, size, name = input.name, keys = context.keys]() mutable {
    Secret key = unlock(header, *head, 0, keys, name);
    return make_decrypted(file, header.data_at, size,
                          make_disk_cipher(header.encryption, key.view(), header.sector_size),
                          header.sector_size, header.first_sector);
  });
}

/// Sectors with tags, which dm-integrity keeps between them.
SourcePtr authenticated(const Input& input, OpenContext& context, const Header& header, const SourcePtr& head,
                        const SourcePtr& file) {
  integrity::Layout layout = integrity::read_layout(*file, header.data_at);
  return make_locked(
      layout.size, [head, file, header, layout, name = input.name, keys = context.keys]() mutable {
        Secret key = unlock(header, *head, 0, keys, name);
        return integrity::make_opened(file, layout,
                                      make_sealed_sectors(header.encryption, header.integrity, key.view()),
                                      header.first_sector);
      });
}

/// The volume whose header is at the front of `head`; `file` has the data, null where it is not known.
ContainerPtr open_volume(const Input& input, OpenContext& context, const SourcePtr& head,
                         const SourcePtr& file) {
  Header header = read_header(*head, 0);
  DiskImage image;
  image.method = "encrypted";
  image.facts = {{"version", fmt::format("LUKS{}", header.version)}, {"uuid", escape(header.uuid)}};
  if (!header.label.empty()) image.facts.emplace_back("label", escape(header.label));
  image.facts.emplace_back("cipher", escape(header.encryption));
  if (!header.integrity.empty()) image.facts.emplace_back("integrity", escape(header.integrity));
  image.facts.emplace_back("sector", fmt::format("{} bytes", header.sector_size));
  image.facts.emplace_back("key slots", slots_text(header));
  for (const std::string& text : header.warnings) image.findings.push_back({Finding::Level::warning, text});
  for (const std::string& text : header.unsupported_slots)
    image.findings.push_back({Finding::Level::note, "not tried: " + text});
  if (!file) {
    image.bytes = make_locked(Entry::kUnknownSize, []() -> SourcePtr {
      throw NeedsKey(
          "this is only a header: open the file with its data, and name this one with --luks-header");
    });
    return make_disk_image(input, std::move(image));
  }
  if (header.data_at > file->size())
    throw CutShort(fmt::format("LUKS: the data begins at offset {}, beyond the file's {} bytes",
                               header.data_at, file->size()));
  image.summed = !header.integrity.empty();
  image.bytes = image.summed ? authenticated(input, context, header, head, file)
                             : decrypted(input, context, header, head, file);
  return make_disk_image(input, std::move(image));
}

ContainerPtr open_luks(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  std::uint64_t data_at = read_header(*file, 0).data_at;
  bool detached = data_at == 0 || data_at >= file->size();
  return open_volume(input, context, file, detached ? nullptr : file);
}

}  // namespace

Format luks_format() {
  return {
      .id = "luks",
      .name = "LUKS encrypted volume",
      .family = "volume",
      .specification = "LUKS1 On-Disk Format Specification 1.2.3, LUKS2 On-Disk Format Specification 1.1.3",
      .reads =
          "LUKS1 and LUKS2; PBKDF2, Argon2i, Argon2id; AES and Camellia in XTS, CBC with ESSIV and ECB; "
          "sectors "
          "of 512 to 4096 bytes; several key slots; the second header; sectors with HMAC, Poly1305 or GCM; "
          "headers that are detached from their "
          "data (--luks-header)",
      .lacks =
          "Serpent, Twofish and other ciphers that OpenSSL lacks, keys from tokens, "
          "an encryption that was not finished",
      .suffixes = {".luks"},
      .single_stream = true,
      .recognise = recognise_luks,
      .open = open_luks,
      .records = {{"header", shown_head}}};
}

Format told_luks_format(const SourcePtr& header) {
  read_header(*header, 0);
  Format out = luks_format();
  out.recognise = recognise_first_file();
  out.open = [header](const Input& input, OpenContext& context) {
    return open_volume(input, context, header, random_access(*input.content, context.spool));
  };
  return out;
}

}  // namespace operculum
