#include "format/archive/zip_record.h"

#include <sys/stat.h>

#include <algorithm>

#include "base/text.h"

namespace operculum::zip {
namespace {

constexpr std::uint16_t kMadeByUnix = (3 << 8) | 30;  // 4.4.2: host 3, edition 3.0

std::uint32_t type_bits(EntryKind kind) {
  return kind == EntryKind::folder ? S_IFDIR : kind == EntryKind::symbolic_link ? S_IFLNK : S_IFREG;
}

void put32(Bytes& out, std::uint64_t value) {
  for (int i = 0; i < 32; i += 8) out.push_back(static_cast<Byte>(value >> i));
}

}  // namespace

Bytes Record::local_bytes(bool sizes_twice) const {
  LocalHeader header = local;
  Bytes extra = widen(header, local_extra, wide || has_field(local_extra, zip64_field));
  if ((header.flags & descriptor_bit) != 0 && !sizes_twice) {
    header.crc32 = 0;
    if (header.compressed_size != kSize32) header.compressed_size = 0;
    if (header.uncompressed_size != kSize32) header.uncompressed_size = 0;
  }
  header.name = name;
  header.extra = extra;
  Bytes out;
  header.append_to(out);
  return out;
}

Bytes Record::central_bytes(const CentralHeader& before) const {
  CentralHeader header = central;
  Bytes extra = widen(header, central_extra, before);
  header.name = name;
  header.extra = extra;
  header.comment = comment;
  Bytes out;
  header.append_to(out);
  return out;
}

Bytes descriptor_bytes(const DescriptorForm& form, const LocalHeader& header) {
  Bytes out;
  if (form.has_mark) put32(out, kDataDescriptor);
  put32(out, header.crc32);
  for (std::uint64_t size : {header.compressed_size, header.uncompressed_size}) {
    put32(out, size);
    if (form.wide) put32(out, size >> 32);
  }
  return out;
}

std::string stored_name(const std::string& path, EntryKind kind) {
  return kind == EntryKind::folder ? path + "/" : path;
}

Bytes end_bytes(std::uint64_t directory_at, std::uint64_t directory_size, std::uint64_t count) {
  Bytes out;
  if (directory_at >= kSize32 || directory_size >= kSize32 || count >= kCount16) {
    Zip64End wide;
    wide.entries = wide.entries_here = count;
    wide.directory_size = directory_size;
    wide.directory_offset = directory_at;
    append_structure(out, wide);
    Zip64Locator locator;
    locator.end_offset = directory_at + directory_size;
    append_structure(out, locator);
  }
  PlainEnd end;
  end.entries = end.entries_here = static_cast<std::uint16_t>(std::min(count, kCount16));
  end.directory_size = static_cast<std::uint32_t>(std::min(directory_size, kSize32));
  end.directory_offset = static_cast<std::uint32_t>(std::min(directory_at, kSize32));
  append_structure(out, end);
  return out;
}

ContentPtr content_of(const NewEntry& entry) {
  if (entry.kind == EntryKind::symbolic_link) {
    ByteView target = as_bytes(entry.link_target);
    return make_content(make_memory_source(Bytes(target.begin(), target.end())));
  }
  return entry.content ? entry.content : make_content(make_memory_source({}));
}

Record new_record(const NewEntry& entry, bool times) {
  Record record;
  record.name = stored_name(entry.path, entry.kind);
  CentralHeader& central = record.central;
  central.version_made_by = kMadeByUnix;
  DosTime time = to_dos(entry.modified);
  central.time = record.local.time = time.time;
  central.date = record.local.date = time.date;
  if (!is_ascii(record.name)) central.flags = record.local.flags = utf8_bit;
  central.external_attributes = (type_bits(entry.kind) | (entry.mode & 07777)) << 16;
  if (entry.kind == EntryKind::folder) central.external_attributes |= kDosFolder;
  bool fits =
      entry.modified.known() && entry.modified.seconds >= INT32_MIN && entry.modified.seconds <= INT32_MAX;
  if (times && fits && !entry.modified.floating) {
    Bytes field = {1};  // the modification time alone
    put32(field, static_cast<std::uint64_t>(entry.modified.seconds));
    record.local_extra = record.central_extra = with_field({}, extended_time_field, field);
  }
  return record;
}

void pack_into(Record& record, const Content& content, std::uint16_t method, const PackSettings& settings,
               SpoolBudget& spool) {
  DataForm form;
  form.method = method;
  form.settings = settings;
  take_over(record, pack_data(content, form, spool), method, method_flags(method, settings));
}

void take_over(Record& record, PackedContent packed, std::uint16_t method, std::uint16_t flags) {
  record.data = std::move(packed);
  record.local.method = record.central.method = method;
  record.local.flags = record.central.flags = static_cast<std::uint16_t>(record.local.flags | flags);
  record.local.version_needed = record.central.version_needed = version_for(method, false);
  record.local.crc32 = record.central.crc32 = record.data.crc32;
  record.local.compressed_size = record.central.compressed_size = record.data.bytes->size();
  record.local.uncompressed_size = record.central.uncompressed_size = record.data.plain_size;
}

}  // namespace operculum::zip
