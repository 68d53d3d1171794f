// ZIP: APPNOTE 6.3.10 (ISO/IEC 21320-1 is a subset). The central directory decides; local headers are
// compared with it when an entry is opened.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/text.h"
#include "base/units.h"
#include "cipher/zip_aes.h"
#include "cipher/zip_traditional.h"
#include "codec/codec.h"
#include "container/record_fields.h"
#include "format/archive/formats.h"
#include "format/archive/zip_data.h"
#include "format/archive/zip_directory.h"
#include "format/archive/zip_local.h"
#include "format/archive/zip_rewrite.h"

namespace operculum {
namespace {

using namespace zip;

constexpr std::uint64_t kLinkLimit = 4096;         // bytes: no system follows a longer one
constexpr std::size_t kTrialDecoded = 256 * 1024;  // bytes of an entry that a password is tried on
constexpr std::size_t kConfirmations = 8;          // other entries that a traditional password is tried on

class ZipContainer final : public Container {
 public:
  ZipContainer(SourcePtr source, std::string name, OpenContext& context)
      : source_(std::move(source)), name_(std::move(name)), context_(context) {}

  void load(const Beside& sibling) {
    auto end = find_end(*source_);
    if (end && end->disk > 0) {
      join_volumes(*end, sibling);
      end = find_end(*source_);
      const auto& starts = directory_.volume_starts;
      if (end && end->directory_disk < starts.size()) end->directory_offset += starts[end->directory_disk];
    }
    std::optional<std::uint64_t> at;
    if (end) at = locate_directory(*source_, *end);
    if (end && (at || (end->entries == 0 && end->directory_size < kCentralSize))) {
      directory_.at = at.value_or(end->begin);
      directory_.prefix = directory_.at - std::min(directory_.at, end->directory_offset);
      directory_.end = std::move(*end);
      return;
    }
    recovered_ = true;
    Recovered found = recover_entries(source_, context_, *this);
    entries_ = std::move(found.entries);
    places_ = std::move(found.places);
    if (entries_.empty()) {
      throw Malformed("neither a directory nor a local header could be read; the file is damaged");
    }
  }

  std::span<const Entry> entries() override {
    std::call_once(listed_, [this] {
      if (!recovered_) read_all_entries();
      for (std::size_t i = 0; i < entries_.size(); ++i) read_link(entries_[i], places_[i]);
    });
    return entries_;
  }

  void each(Detail detail, const std::function<void(const Entry&)>& visitor) override {
    if (recovered_ || !entries_.empty()) return Container::each(detail, visitor);
    DirectoryReader reader(source_, directory_, context_, *this, detail);
    for (Entry entry; reader.next(entry);) {
      if (detail == Detail::all) read_link(entry, reader.place());
      visitor(entry);
    }
    note_surroundings(reader.front());
  }

  ContentPtr content(std::size_t index) override { return data_content(member(index)); }

  SourcePtr stored(std::size_t index) override {
    auto [entry, place] = member(index);
    return make_slice(source_, read_local(*source_, place.header_at).data, entry.stored_size);
  }

  /// Its local header and its data.
  std::vector<Footprint> footprint(std::size_t index) override {
    auto [entry, place] = member(index);
    try {
      return {{place.header_at,
               read_local(*source_, place.header_at).data - place.header_at + entry.stored_size}};
    } catch (const Malformed&) {
      return {};
    }
  }

  std::optional<PackedRun> packed_alone(std::size_t index) override {
    auto [entry, place] = member(index);
    const Method& method = method_of(place.method);
    bool has_settings = method.number == kMethodLzma || method.number == kMethodImplode;
    if (has_settings || method.codec.empty() || !entry.has_data() || entry.is(Entry::encrypted))
      return std::nullopt;
    PackedRun run{method.codec, stored(index), std::nullopt, std::nullopt};
    if (entry.is(Entry::has_crc) && entry.size_known()) run.plain_size = entry.size, run.crc32 = entry.crc32;
    return run;
  }

  Assembly rewrite(const Changes& changes, const Writing& writing) override {
    if (recovered_)
      throw Unsupported("writing a ZIP archive whose directory is damaged; unpack it and pack anew");
    Archive archive{source_, directory_, entries(), places_, {}, {}, {}};
    archive.content = [this](std::size_t index) { return content(index); };
    archive.password = [this](std::size_t index) { return data_of(member(index)).password; };
    archive.packed = [this, &writing](std::size_t index) {
      EntryData data = data_of(member(index));
      return data.encrypted ? spool(*data.open_packed(), writing.spool) : data.stored;
    };
    return zip::rewrite(archive, changes, writing);
  }

  std::optional<Trimmed> trimmed(Look look) override {
    if (recovered_) return std::nullopt;
    return zip::trimmed({source_, directory_, entries(), places_, {}, {}, {}}, {{}, context_.spool, {}},
                        look);
  }

  Facts facts() override {
    Facts facts;
    std::string comment = decode_name(directory_.end.comment, false, context_.names_in);
    if (!comment.empty()) facts.emplace_back("comment", comment);
    if (directory_.end.zip64) facts.emplace_back("size fields", "64 bit (Zip64)");
    if (!directory_.volume_starts.empty()) {
      facts.emplace_back("volumes", std::to_string(directory_.volume_starts.size()));
    }
    std::set<std::string> encryption;
    for (std::size_t i = 0; i < entries_.size() && encryption.size() < 2 && i < 1000; ++i) {
      if (entries_[i].is(Entry::encrypted)) encryption.insert(encryption_of({entries_[i], places_[i]}));
    }
    for (const std::string& kind : encryption) facts.emplace_back("encryption", kind);
    return facts;
  }

 private:
  struct Member {
    const Entry& entry;
    const LocalPlace& place;
  };
  Member member(std::size_t index) { return {entries()[index], places_[index]}; }

  static Byte check_byte(const LocalHeader& header) {
    // 6.1.6: the high byte of the CRC; writers that stream do not know it yet and take that of the time.
    return (header.flags & descriptor_bit) != 0 ? static_cast<Byte>(header.time >> 8)
                                                : static_cast<Byte>(header.crc32 >> 24);
  }

  std::string encryption_of(const Member& one) {
    try {
      Local local = local_of(one);
      if (!local.extra.aes) return "traditional (weak)";
      return fmt::format("AES-{}, version AE-{}", 64 * (local.extra.aes->strength + 1),
                         local.extra.aes->version);
    } catch (const Error&) {
      return "of a kind that cannot be read";
    }
  }

  Local local_of(const Member& one) {
    Local local = read_local(*source_, one.place.header_at);
    LocalHeader sized = local.header;
    read_extra(sized);  // replaces the sizes that the Zip64 field tells
    if (!one.entry.is(Entry::recovered)) compare(one, sized, local.extra);
    return local;
  }

  /// Local and central header must agree; where they do not, the central one is used and the difference told.
  void compare(const Member& one, const LocalHeader& header, const ExtraFields& extra) {
    const Entry& entry = one.entry;
    auto tell = [&](std::string_view what, const std::string& here, const std::string& there) {
      add_finding(Finding::Level::warning, fmt::format("{}: its two headers contradict each other in the {} "
                                                       "(directory: {}, in front of the data: {}); "
                                                       "the directory was believed",
                                                       escape(entry.path), what, here, there));
    };
    std::string name =
        clean_path(decode_name(extra.unicode_path.value_or(header.name),
                               (header.flags & utf8_bit) != 0 || extra.unicode_path, context_.names_in));
    if ((header.flags & masked_header_bit) != 0) return;
    std::replace(name.begin(), name.end(), '\\', '/');
    std::string listed = entry.path;
    std::replace(listed.begin(), listed.end(), '\\', '/');
    // Writers disagree on the encoding of the two copies; only plain names are compared.
    if (name != listed && is_ascii(name) && is_ascii(listed)) tell("name", escape(entry.path), escape(name));
    std::uint16_t method = header.method == kMethodAes && extra.aes ? extra.aes->method : header.method;
    if (method != one.place.method)
      tell("method", std::string(entry.method), std::string(method_of(method).name));
    if ((header.flags & descriptor_bit) != 0) return;  // sizes and CRC come behind the data
    if (header.uncompressed_size != entry.size)
      tell("size", std::to_string(entry.size), std::to_string(header.uncompressed_size));
    if (header.compressed_size != entry.stored_size) {
      tell("stored size", std::to_string(entry.stored_size), std::to_string(header.compressed_size));
    }
    if (header.crc32 != entry.crc32)
      tell("checksum", fmt::format("{:08x}", entry.crc32), fmt::format("{:08x}", header.crc32));
  }

  EntryData data_of(const Member& one) {
    const Entry& entry = one.entry;
    Local local = local_of(one);
    const Method& method = method_of(one.place.method);
    std::uint16_t flags = local.header.flags;
    if ((flags & strong_encryption_bit) != 0) throw Unsupported("ZIP strong encryption (APPNOTE 7)");
    if ((flags & patch_bit) != 0) throw Unsupported("ZIP patched data");
    if (method.codec.empty()) {
      throw Unsupported(fmt::format("ZIP compression method {} ({})", one.place.method, method.name));
    }
    if (local.data >= source_->size() && entry.stored_size > 0) {
      throw CutShort(fmt::format("its {} bytes lie behind the end of the file; the file is cut short",
                                 entry.stored_size));
    }
    EntryData data;
    data.stored = make_slice(source_, local.data, entry.stored_size);
    data.codec = find_codec(method.codec);
    if (entry.size_known()) data.expected.size = entry.size;
    if (entry.is(Entry::has_crc)) data.expected.crc32 = entry.crc32;
    data.encrypted = entry.is(Entry::encrypted);
    data.complete = data.stored->size() == entry.stored_size;
    data.stored_size = entry.stored_size;
    data.method = one.place.method;
    data.flags = flags;
    data.aes = local.extra.aes;
    if (data.encrypted) data.password = password_for(one, local, data);
    return data;
  }

  ContentPtr data_content(const Member& one) { return make_entry_content(data_of(one), shared_from_this()); }

  /// A password that fits this entry: entries of one archive may have different ones.
  std::string password_for(const Member& one, const Local& local, EntryData data) {
    std::string key_name = name_.empty() ? one.entry.path : name_;
    if (local.extra.aes) {
      ZipAes aes{local.extra.aes->strength};
      if (aes.strength < 1 || aes.strength > 3)
        throw Malformed(fmt::format("AES strength {}: expected 1, 2 or 3", aes.strength));
      Bytes head = read_up_to(*source_, local.data, aes.salt_size() + ZipAes::kVerifier);
      auto fits = [&](const std::string& secret) {
        return aes.fits(secret, head) ? KeyRing::Fit::yes : KeyRing::Fit::no;
      };
      return context_.keys.find(key_name, fits).secret;
    }
    auto fits = [&](const std::string& secret) {
      if (!fits_traditional(secret, local)) return KeyRing::Fit::no;
      if (confirmed(secret, one.place)) return KeyRing::Fit::yes;
      data.password = secret;
      return decodes(data) ? KeyRing::Fit::yes : KeyRing::Fit::perhaps;
    };
    return context_.keys.find(key_name, fits).secret;
  }

  /// Whether the front of an entry decodes with its password; all of it, checksum included, when it is short.
  static bool decodes(const EntryData& data) {
    try {
      StreamPtr stream = data.open();
      Bytes front(kTrialDecoded);
      read_fully(*stream, front);
      return true;
    } catch (const Error&) {
      return false;
    }
  }

  bool fits_traditional(const std::string& secret, const Local& local) {
    Bytes head = read_up_to(*source_, local.data, ZipTraditional::kHeader);
    return ZipTraditional::fits(secret, head, check_byte(local.header));
  }

  /// One wrong password in 256 fits a single traditional entry, but not a few others as well: most archives
  /// have one password.
  bool confirmed(const std::string& secret, const LocalPlace& place) {
    std::size_t asked = 0, agreed = 0;
    for (std::size_t i = 0; i < entries_.size() && asked < kConfirmations; ++i) {
      const Entry& other = entries_[i];
      bool witness = other.has_data() && other.is(Entry::encrypted) &&
                     places_[i].header_at != place.header_at && other.stored_size >= ZipTraditional::kHeader;
      if (!witness) continue;
      try {
        Local local = local_of({other, places_[i]});
        if (local.extra.aes) continue;
        ++asked;
        agreed += fits_traditional(secret, local) ? 1 : 0;
      } catch (const Error&) {
        continue;  // its header is damaged: no witness
      }
    }
    return agreed > 0;
  }

  void read_all_entries() {
    DirectoryReader reader(source_, directory_, context_, *this);
    std::uint64_t most = (source_->size() - std::min(source_->size(), directory_.at)) / kCentralSize;
    auto expected = static_cast<std::size_t>(std::min(directory_.end.entries, most));
    entries_.reserve(expected);
    places_.reserve(expected);
    for (Entry entry; reader.next(entry);) {
      context_.limits.count_retained(memory_of(entry) + sizeof(LocalPlace));
      entries_.push_back(std::move(entry));
      places_.push_back(reader.place());
    }
    note_surroundings(reader.front());
  }

  /// A symbolic link keeps its target as data.
  void read_link(Entry& entry, const LocalPlace& place) {
    if (entry.kind != EntryKind::symbolic_link) return;
    try {
      Bytes target = read_all(*data_content({entry, place})->stream(), kLinkLimit);
      entry.extras().link_target = as_text(target);
    } catch (const Error& error) {
      entry.flags |= Entry::damaged;
      add_finding(Finding::Level::fault,
                  fmt::format("{}: the link's target cannot be read: {}", escape(entry.path), error.what()));
    }
  }

  void note_surroundings(std::uint64_t front) {
    const EndRecord& end = directory_.end;
    if (end.entries > 0 && front > 4) {  // 4: the mark of a set that fitted into one volume
      add_finding(
          Finding::Level::note,
          fmt::format("{} bytes lie in front of the archive, such as a program that unpacks it", front));
    }
    std::uint64_t archive_end = end.position + kEndSize + end.comment.size();
    if (archive_end < source_->size()) {
      add_finding(Finding::Level::note,
                  fmt::format("{} bytes follow the end of the archive", source_->size() - archive_end));
    }
  }

  /// A split set: NAME.z01, NAME.z02, ... and NAME.zip as the last (8.3). Missing ones are named.
  void join_volumes(const EndRecord& end, const Beside& sibling) {
    constexpr std::uint32_t kMaxVolumes = 10'000;
    if (end.disk > kMaxVolumes || !sibling)
      throw Unsupported(fmt::format("a ZIP set of {} volumes", end.disk + 1));
    std::string stem = name_.substr(0, name_.rfind('.'));
    std::vector<SourcePtr> volumes;
    std::string missing;
    for (std::uint32_t disk = 0; disk < end.disk; ++disk) {
      std::string part = fmt::format("{}.{}{:02}", stem, name_.ends_with("ZIP") ? 'Z' : 'z', disk + 1);
      SourcePtr volume = sibling(part);
      if (!volume) missing += (missing.empty() ? "" : ", ") + part;
      volumes.push_back(volume ? volume : make_memory_source({}));
    }
    if (!missing.empty()) {
      add_finding(Finding::Level::fault,
                  fmt::format("volumes of this split set are missing: {}; put them into the same folder",
                              escape(missing)));
    }
    volumes.push_back(source_);
    std::uint64_t start = 0;
    for (const SourcePtr& volume : volumes) {
      directory_.volume_starts.push_back(start);
      start += volume->size();
    }
    source_ = make_joined(std::move(volumes));
  }

  SourcePtr source_;
  std::string name_;
  OpenContext& context_;
  DirectoryPlace directory_;
  bool recovered_ = false;  // no directory: entries_ was filled from local headers
  std::once_flag listed_;
  std::vector<Entry> entries_;
  std::vector<LocalPlace> places_;  // of the same
};

std::uint32_t mark_at(Probe& probe, std::uint64_t offset) {
  Bytes mark = probe.at(offset, 4);
  return mark.size() == 4 ? Cursor(mark, "").u32le() : 0;
}

/// At the front: a local header that makes sense, or the end record of an empty archive. Elsewhere: an end
/// record whose directory is where it says.
Match recognise_zip(Probe& probe) {
  ByteView head = probe.head(kLocalSize + 512);
  if (head.size() >= 4) {
    std::size_t skip =
        Cursor(head, "").u32le() == kSpannedMark || Cursor(head, "").u32le() == kDataDescriptor ? 4 : 0;
    ByteView local = head.subspan(skip);
    if (local.size() >= kLocalSize && Cursor(local, "").u32le() == kLocalHeader) {
      Cursor cursor(local, "zip local header");
      cursor.skip(4);
      std::uint16_t version = cursor.u16le();
      cursor.skip(2);
      bool method_known = method_of(cursor.u16le()).name != "unknown";
      cursor.skip(16);
      std::uint16_t name_length = cursor.u16le();
      if (version % 256 <= 63 && method_known && name_length > 0 && name_length < 4096) return Match::front;
    }
    if (head.size() >= kEndSize && Cursor(head, "").u32le() == kEnd && probe.size() &&
        *probe.size() < kEndSize + 65536)
      return Match::front;
  }
  if (probe.tail(kEndSize).empty()) return Match::none;
  ByteView tail = probe.tail(Probe::kReach);
  auto size = probe.size().value_or(0);
  std::string_view text = as_text(tail);
  std::size_t at = text.size() < kEndSize ? 0 : text.size() - kEndSize + 1;
  while (at > 0 && (at = last_end_mark(text, at - 1)) != text.npos) {
    ByteView record = tail.subspan(at);
    auto end = read_structure<PlainEnd>(record.data());
    std::uint16_t entries = end.entries;
    std::uint64_t directory_size = end.directory_size;
    std::uint64_t position = size - tail.size() + at;
    bool zip64 =
        position >= kZip64LocatorSize && mark_at(probe, position - kZip64LocatorSize) == kZip64Locator;
    if (zip64) return Match::inside;
    if (entries == 0 || directory_size > position) continue;
    if (mark_at(probe, position - directory_size) == kCentralHeader) return Match::inside;
  }
  return Match::none;
}

ContainerPtr open_zip(const Input& input, OpenContext& context) {
  auto container =
      std::make_shared<ZipContainer>(random_access(*input.content, context.spool), input.name, context);
  container->load(input.sibling);
  return container;
}

}  // namespace

Format zip_format() {
  return {
      .id = "zip",
      .name = "ZIP archive",
      .family = "archive",
      .specification = "APPNOTE 6.3.10, ISO/IEC 21320-1",
      .reads =
          "stored, deflate, deflate64, bzip2, LZMA, zstd, xz, shrink, reduce, implode in both forms; Zip64; "
          "data "
          "descriptors; code pages, Unicode path field; NTFS and extended times; Unix modes and links; "
          "traditional and AES encryption (AE-1, AE-2); "
          "bytes around the archive; split sets; recovery from local headers",
      .lacks = "PPMd, WavPack, JPEG and MP3 methods; strong encryption (APPNOTE 7)",
      .writes =
          "stored, deflate, deflate64, bzip2, LZMA, zstd, xz; traditional and AES encryption; Zip64; data "
          "descriptors; "
          "alignment; split sets become one file",
      .suffixes = {".zip"},
      .recognise = recognise_zip,
      .open = open_zip,
      .pack = pack_zip,
      .keeps = {.hard_links = false, .owners = false},
      .records = {record_at<LocalHeader>("first local header", 0)}};
}

}  // namespace operculum
