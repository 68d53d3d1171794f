#include "format/archive/zip_directory.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstring>

#include "base/checked.h"
#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "io/read_ahead.h"

namespace operculum::zip {
namespace {

constexpr std::uint64_t kEndSearch =
    Probe::kReach;  // 64 KiB of comment, and some bytes that do not belong to the archive

constexpr std::uint64_t kUsualEnd = 1024;  // bytes in which the end of most archives lies
constexpr std::uint64_t kCountedAlone = 256, kCountedAtOnce = 64;  // entries

/// High byte of "version made by" (4.4.2).
enum Host : std::uint8_t {
  host_fat = 0,
  host_unix = 3,
  host_hpfs = 6,
  host_ntfs = 10,
  host_vfat = 14,
  host_darwin = 19
};

/// Overlays the Zip64 record that a locator in front of the plain record points to.
void read_zip64_end(const Source& source, EndRecord& end) {
  if (end.position < kZip64LocatorSize) return;
  Bytes raw = read_up_to(source, end.position - kZip64LocatorSize, kZip64LocatorSize);
  if (raw.size() < kZip64LocatorSize) return;
  auto locator = read_structure<Zip64Locator>(raw.data());
  if (locator.signature != kZip64Locator) return;
  // Where it says, or right in front of the locator when bytes were put before the archive.
  std::uint64_t before = end.position - kZip64LocatorSize;
  for (std::uint64_t at :
       {locator.end_offset, before >= kZip64EndSize ? before - kZip64EndSize : UINT64_MAX}) {
    Bytes record = read_up_to(source, at, kZip64EndSize);
    if (record.size() < kZip64EndSize) continue;
    auto wide = read_structure<Zip64End>(record.data());
    if (wide.signature != kZip64End) continue;
    end.disk = wide.disk;
    end.directory_disk = wide.directory_disk;
    end.entries_here = wide.entries_here;
    end.entries = wide.entries;
    end.directory_size = wide.directory_size;
    end.directory_offset = wide.directory_offset;
    end.begin = at;
    end.zip64 = true;
    return;
  }
}

EndRecord read_end(const Source& source, ByteView record, std::uint64_t position) {
  Cursor cursor(record, "zip end record", position);
  auto plain = read_structure<PlainEnd>(cursor);
  EndRecord end;
  end.disk = plain.disk;
  end.directory_disk = plain.directory_disk;
  end.entries_here = plain.entries_here;
  end.entries = plain.entries;
  end.directory_size = plain.directory_size;
  end.directory_offset = plain.directory_offset;
  end.comment = cursor.text(std::min<std::size_t>(plain.comment_length, cursor.left()));
  end.position = end.begin = position;
  read_zip64_end(source, end);
  return end;
}

bool has_central_header(const Source& source, std::uint64_t at) {
  Bytes mark = read_up_to(source, at, 4);
  return mark.size() == 4 && Cursor(mark, "").u32le() == kCentralHeader;
}

/// How long the central header at the front of `raw` is, from its three length fields.
std::size_t central_length(ByteView raw) {
  if (raw.size() < kCentralSize) return kCentralSize;
  constexpr std::size_t kLengths[] = {place_of(&CentralHeader::name_length).at,
                                      place_of(&CentralHeader::extra_length).at,
                                      place_of(&CentralHeader::comment_length).at};
  std::size_t length = kCentralSize;
  for (std::size_t at : kLengths) length += load_little<std::uint16_t>(raw.data() + at);
  return length;
}

/// Whether a field tells times, owners or filling in a usual form, and so nothing of the path, the sizes and
/// the checksum. Others are read in full, which tells of those that are damaged.
bool is_usual_field(std::uint16_t id, ByteView field) {
  switch (id) {
    case extended_time_field:
      return !field.empty();
    case unix_ids_field:  // version 1, two numbers of four bytes
      return field.size() == 11 && field[0] == 1 && field[1] == 4 && field[6] == 4;
    case ntfs_field:  // attribute 1, three times
      return field.size() == 32 && load_little<std::uint16_t>(field.data() + 4) == 1 &&
             load_little<std::uint16_t>(field.data() + 6) == 24;
    case unix_old_field:
    case alignment_field:
      return true;
    default:
      return false;
  }
}

/// Replaces the sizes and the offset that a Zip64 field tells; false when a field wants a closer look.
bool take_plain_fields(CentralHeader& header, ByteView extra) {
  bool wide = false;
  while (extra.size() >= 4) {
    auto id = load_little<std::uint16_t>(extra.data());
    std::size_t size = load_little<std::uint16_t>(extra.data() + 2);
    if (size > extra.size() - 4) return false;
    if (id == zip64_field && !wide) {
      wide = true;
      const Byte* at = extra.data() + 4;
      for (std::uint64_t* number :
           {&header.uncompressed_size, &header.compressed_size, &header.local_offset}) {
        if (*number != kSize32) continue;
        if (static_cast<std::size_t>(at - extra.data()) + 8 > 4 + size) return false;
        *number = load_little<std::uint64_t>(at);
        at += 8;
      }
    } else if (!is_usual_field(id, extra.subspan(4, size))) {
      return false;
    }
    extra = extra.subspan(4 + size);
  }
  return extra.empty() && (wide || header.local_offset != kSize32);
}

/// What of a central header tells the kind of its entry.
struct Attributes {
  std::uint16_t version_made_by;
  std::uint32_t external;
  bool empty, ends_with_slash;
};

/// Permissions and kind by the system that made the entry (4.4.2, 4.4.15).
void apply_attributes(Entry& entry, const Attributes& header) {
  auto host = static_cast<std::uint8_t>(header.version_made_by >> 8);
  std::uint32_t unix_mode = header.external >> 16;
  entry.kind = EntryKind::file;
  if ((host == host_unix || host == host_darwin) && unix_mode != 0) {
    entry.mode = unix_mode & 07777;
    if ((unix_mode & S_IFMT) != 0) entry.kind = kind_of_mode(unix_mode);
  }
  bool dos_folder = (header.external & kDosFolder) != 0 && header.empty && entry.kind == EntryKind::file;
  if (header.ends_with_slash || dos_folder) entry.kind = EntryKind::folder;
}

bool writes_backslashes(std::uint16_t version_made_by) {
  auto host = version_made_by >> 8;
  return host == host_fat || host == host_hpfs || host == host_ntfs || host == host_vfat;
}

}  // namespace

std::string decode_name(std::string_view raw, bool utf8, const std::string& names_in) {
  if (is_ascii(raw)) return std::string(raw);
  if (utf8 && is_utf8(raw)) return std::string(raw);
  // Many writers store UTF-8 without the flag; text that is well-formed UTF-8 by chance is rare.
  if (names_in.empty() && is_utf8(raw)) return std::string(raw);
  return to_utf8(raw, names_in.empty() ? "CP437" : names_in).value_or(std::string(raw));
}

std::uint16_t describe(Entry& entry, std::uint16_t flags, std::uint16_t method, const ExtraFields& extra,
                       std::uint16_t date, std::uint16_t time) {
  if (method == kMethodAes && extra.aes) method = extra.aes->method;
  entry.method = method_of(method).name;
  if ((flags & encrypted_bit) != 0) entry.flags |= Entry::encrypted;
  entry.modified = extra.modified.known() ? extra.modified : from_dos(date, time);
  // The second version of AES encryption stores no CRC: it would tell about the plain bytes.
  if (!extra.aes || extra.aes->version != 2) entry.flags |= Entry::has_crc;
  if (extra.aes) entry.flags |= Entry::has_sum;  // its authentication code
  if (extra.accessed.known()) entry.extras().accessed = extra.accessed;
  if (extra.created.known()) entry.extras().created = extra.created;
  if (extra.user_id) entry.extras().user_id = *extra.user_id;
  if (extra.group_id) entry.extras().group_id = *extra.group_id;
  if (extra.broken) entry.flags |= Entry::damaged;
  return method;
}

std::size_t last_end_mark(std::string_view text, std::size_t from) {
  constexpr std::string_view kMark = "PK\5\6";
  constexpr std::size_t kRarest = 2;  // its byte that is looked for
  for (std::size_t length = std::min(text.size(), from + kRarest + 1);;) {
    const void* found = memrchr(text.data(), kMark[kRarest], length);
    if (found == nullptr) return text.npos;
    length = static_cast<std::size_t>(static_cast<const char*>(found) - text.data());
    if (length >= kRarest && text.substr(length - kRarest).starts_with(kMark)) return length - kRarest;
  }
}

namespace {

/// The last end record whose directory is there, in `reach` bytes in front of `limit`; else, as `fallback`,
/// the last whose directory is not.
std::optional<EndRecord> find_end_within(const Source& source, std::uint64_t limit, std::uint64_t reach,
                                         std::optional<EndRecord>& fallback) {
  std::uint64_t begin = limit > reach ? limit - reach : 0;
  Bytes tail = read_up_to(source, begin, limit - begin);
  if (tail.size() < kEndSize) return std::nullopt;
  std::string_view text = as_text(tail);
  std::size_t at = tail.size() - kEndSize + 1;
  while (at > 0 && (at = last_end_mark(text, at - 1)) != text.npos) {
    EndRecord end = read_end(source, ByteView(tail).subspan(at), begin + at);
    if (end.disk != end.directory_disk && end.directory_disk > end.disk) continue;
    if (end.entries == 0 || end.disk > 0 || locate_directory(source, end)) return end;
    if (!fallback) fallback = end;
  }
  return std::nullopt;
}

}  // namespace

std::optional<EndRecord> find_end(const Source& source, std::uint64_t before) {
  std::uint64_t limit = std::min(before, source.size());
  std::optional<EndRecord> fallback;
  for (std::uint64_t reach : {kUsualEnd, kEndSearch}) {
    if (auto end = find_end_within(source, limit, reach, fallback)) return end;
  }
  return fallback;
}

std::optional<std::uint64_t> locate_directory(const Source& source, const EndRecord& end) {
  if (end.directory_size <= end.begin) {
    std::uint64_t by_size = end.begin - end.directory_size;
    if (by_size == end.directory_offset && has_central_header(source, by_size)) return by_size;
    if (by_size >= end.directory_offset && has_central_header(source, by_size)) return by_size;
  }
  if (has_central_header(source, end.directory_offset)) return end.directory_offset;
  return std::nullopt;
}

namespace {

/// The bytes of a directory; of a large one they are read while what came before is looked at.
StreamPtr stream_of(SourcePtr source, const DirectoryPlace& place) {
  constexpr std::uint64_t kLarge = 4 << 20;
  if (place.end.begin <= place.at) return make_source_stream(std::move(source), place.at, UINT64_MAX);
  std::uint64_t size = place.end.begin - place.at;
  StreamPtr stream = make_source_stream(std::move(source), place.at, size);
  return size < kLarge ? std::move(stream) : make_read_ahead(std::move(stream));
}

}  // namespace

DirectoryReader::DirectoryReader(SourcePtr source, const DirectoryPlace& place, const OpenContext& context,
                                 Container& findings, Detail detail)
    : directory_(place),
      context_(context),
      findings_(findings),
      detail_(detail),
      input_(stream_of(std::move(source), place)),
      front_(place.end.begin) {}

bool DirectoryReader::next(Entry& entry) {
  ByteView raw = input_.ensure(kCentralSize);
  if (raw.size() < 4 || load_little<std::uint32_t>(raw.data()) != kCentralHeader) {
    tell_end();
    return false;
  }
  ++count_;
  // All threads share the count: of many entries it is told now and then.
  if (count_ <= kCountedAlone) {
    context_.limits.count_entry();
  } else if (count_ % kCountedAtOnce == 0) {
    context_.limits.count_entries(kCountedAtOnce);
  }
  std::size_t length = central_length(raw);
  if (length > raw.size()) raw = input_.ensure(length);
  if (detail_ != Detail::all && raw.size() >= length && take_plain(entry, raw.first(length))) return true;
  Cursor cursor(raw, "zip central directory", directory_.at + input_.consumed());
  try {
    CentralHeader header = CentralHeader::read(cursor);
    fill(entry, header);
  } catch (const Malformed& error) {
    --count_;
    findings_.add_finding(Finding::Level::fault,
                          fmt::format("the directory is damaged after {}: {}",
                                      counted(count_, "entry", "entries"), error.what()));
    tell_end();
    return false;
  }
  input_.consume(cursor.position());
  return true;
}

/// The short way when only paths and numbers are wanted: true when the header `raw` is as most are, with no
/// extra fields that tell of either and a name in ASCII.
bool DirectoryReader::take_plain(Entry& entry, ByteView raw) {
  if (!directory_.volume_starts.empty()) return false;
  auto header = read_structure<CentralHeader>(raw.data());
  std::string_view name = as_text(raw.subspan(kCentralSize, header.name_length));
  if (header.method == kMethodAes || !is_ascii(name) ||
      !take_plain_fields(header, raw.subspan(kCentralSize + header.name_length, header.extra_length)) ||
      header.local_offset > UINT64_MAX / 2)
    return false;
  front_ = std::min(front_, header.local_offset + directory_.prefix);
  entry.size = header.uncompressed_size;
  entry.stored_size = header.compressed_size;
  entry.crc32 = header.crc32;
  entry.flags = Entry::has_crc;
  if ((header.flags & encrypted_bit) != 0) entry.flags |= Entry::encrypted;
  apply_attributes(entry, {header.version_made_by, header.external_attributes, header.uncompressed_size == 0,
                           name.ends_with('/')});
  entry.path.assign(name);
  finish_path(entry, header.version_made_by);
  input_.consume(raw.size());
  return true;
}

void DirectoryReader::fill(Entry& entry, CentralHeader& header) {
  static const ExtraFields kNone;
  if (header.extra.empty()) return fill(entry, header, kNone);
  ExtraFields extra = read_extra(header);  // sets header's wide numbers, too
  fill(entry, header, extra);
}

void DirectoryReader::fill(Entry& entry, const CentralHeader& header, const ExtraFields& extra) {
  std::uint64_t base = directory_.prefix;
  if (header.disk < directory_.volume_starts.size()) base += directory_.volume_starts[header.disk];
  std::uint64_t offset = checked_add(header.local_offset, base, "the offset of a local header");
  front_ = std::min(front_, offset);
  broken_fields_ += extra.broken ? 1 : 0;
  if (detail_ != Detail::paths) {
    std::string path = std::move(entry.path);  // its memory is used again
    entry = Entry{};
    entry.path = std::move(path);
    entry.size = header.uncompressed_size;
    entry.stored_size = header.compressed_size;
    entry.crc32 = header.crc32;
    local_ = {offset, describe(entry, header.flags, header.method, extra, header.date, header.time)};
    if (!header.comment.empty()) {
      bool utf8 = (header.flags & utf8_bit) != 0;
      entry.extras().comment = extra.unicode_comment ? std::string(*extra.unicode_comment)
                                                     : decode_name(header.comment, utf8, context_.names_in);
    }
  }
  apply_attributes(entry, {header.version_made_by, header.external_attributes, header.uncompressed_size == 0,
                           header.name.ends_with('/')});
  fill_path(entry, header, extra);
}

void DirectoryReader::fill_path(Entry& entry, const CentralHeader& header, const ExtraFields& extra) const {
  std::string_view name = extra.unicode_path.value_or(header.name);
  std::string& path = entry.path;
  if (is_ascii(name)) {
    path.assign(name);
  } else {
    path = decode_name(name, (header.flags & utf8_bit) != 0 || extra.unicode_path, context_.names_in);
  }
  finish_path(entry, header.version_made_by);
}

void DirectoryReader::finish_path(Entry& entry, std::uint16_t version_made_by) {
  std::string& path = entry.path;
  if (writes_backslashes(version_made_by) && path.find('/') == std::string::npos) {
    std::replace(path.begin(), path.end(), '\\', '/');
  }
  if (path.ends_with('/')) entry.kind = EntryKind::folder;
  clean_in_place(path);
}

void DirectoryReader::tell_end() {
  const EndRecord& end = directory_.end;
  // The plain record counts modulo 65536 when a writer without Zip64 went beyond it.
  if (count_ != end.entries && (end.zip64 || count_ % 65536 != end.entries)) {
    findings_.add_finding(Finding::Level::fault,
                          fmt::format("the end record states {}, the directory has {}",
                                      counted(end.entries, "entry", "entries"), count_));
  }
  if (broken_fields_ > 0) {
    findings_.add_finding(Finding::Level::warning,
                          fmt::format("{} extra fields that do not fill their space",
                                      counted(broken_fields_, "entry has", "entries have")));
  }
}

}  // namespace operculum::zip
