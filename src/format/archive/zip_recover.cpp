// Entries without the directory: a scan for local headers, as after an interrupted download.
#include <fmt/format.h>

#include "base/error.h"
#include "format/archive/zip_directory.h"
#include "io/input_buffer.h"

namespace operculum::zip {
namespace {

constexpr std::size_t kLongestLocal = kLocalSize + 2 * 65535;
constexpr std::size_t kScanStep = 64 * 1024;

/// Scans for "PK" marks from a place on.
class Scanner {
 public:
  Scanner(SourcePtr source, std::uint64_t from)
      : input_(make_source_stream(std::move(source), from)), from_(from) {}

  /// Moves to the next mark that `fits` accepts (given the bytes from the mark on); false at the end.
  template <typename Fits>
  bool next(Fits fits) {
    for (;;) {
      input_.skip_zeros();  // no mark begins with one, and a hole may be endless
      ByteView window = input_.ensure(kScanStep);
      if (window.size() < 4) return false;
      std::size_t at = as_text(window).find("PK");
      if (at != std::string_view::npos && window.size() - at >= 4) {
        input_.consume(at);
        if (fits(position(), input_.ensure(kLongestLocal))) return true;
        input_.consume(2);
        continue;
      }
      input_.consume(at == std::string_view::npos ? window.size() - 1 : at);
      if (input_.ensure(4).size() < 4) return false;
    }
  }

  std::uint64_t position() const { return from_ + input_.consumed(); }
  ByteView view() { return input_.ensure(kLongestLocal); }
  void skip(std::uint64_t count) { input_.skip(count); }

 private:
  InputBuffer input_;
  std::uint64_t from_;
};

std::uint32_t mark_of(ByteView bytes) {
  return Cursor(bytes, "").u32le();
}

bool plausible(const LocalHeader& header) {
  return header.version_needed % 256 <= 63 && !header.name.empty() &&
         method_of(header.method).name != "unknown" && header.name.find('\0') == std::string_view::npos;
}

struct Descriptor {
  std::uint64_t compressed = 0, uncompressed = 0;
  std::uint32_t crc32 = 0;
};

/// The data descriptor behind data that begins at `data`: its mark, with a compressed size that fits the
/// distance.
std::optional<Descriptor> find_descriptor(const SourcePtr& source, std::uint64_t data) {
  Scanner scanner(source, data);
  std::optional<Descriptor> found;
  scanner.next([&](std::uint64_t at, ByteView bytes) {
    std::uint32_t mark = mark_of(bytes);
    std::uint64_t distance = at - data;
    if (mark == kDataDescriptor && bytes.size() >= 16) {
      Cursor cursor(bytes, "zip data descriptor", at);
      cursor.skip(4);
      std::uint32_t crc = cursor.u32le();
      Cursor wide = cursor;
      std::uint64_t compressed = cursor.u32le(), uncompressed = cursor.u32le();
      if (compressed == (distance & 0xffffffff)) found = {distance, uncompressed, crc};
      if (!found && wide.left() >= 16 && wide.u64le() == distance) found = {distance, wide.u64le(), crc};
      return found.has_value();
    }
    // A descriptor may lack its mark: then it is the 12 bytes in front of the next header.
    if ((mark == kLocalHeader || mark == kCentralHeader) && distance >= 12) {
      Bytes raw = read_up_to(*source, at - 12, 12);
      Cursor cursor(raw, "zip data descriptor", at - 12);
      std::uint32_t crc = cursor.u32le();
      std::uint64_t compressed = cursor.u32le(), uncompressed = cursor.u32le();
      if (compressed == ((distance - 12) & 0xffffffff)) found = {distance - 12, uncompressed, crc};
      return found.has_value();
    }
    return false;
  });
  return found;
}

}  // namespace

Recovered recover_entries(const SourcePtr& source, const OpenContext& context, Container& findings) {
  Recovered found;
  Scanner scanner(source, 0);
  std::uint64_t unsized = 0;
  while (scanner.next([](std::uint64_t, ByteView bytes) { return mark_of(bytes) == kLocalHeader; })) {
    std::uint64_t at = scanner.position();
    LocalHeader header;
    ExtraFields extra;
    ByteView raw = scanner.view();
    try {
      Cursor cursor(raw, "zip local header", at);
      header = LocalHeader::read(cursor);
      extra = read_extra(header);
    } catch (const Malformed&) {
      scanner.skip(4);
      continue;
    }
    if (!plausible(header)) {
      scanner.skip(4);
      continue;
    }
    Entry entry;
    entry.flags |= Entry::recovered;
    entry.size = header.uncompressed_size;
    entry.stored_size = header.compressed_size;
    entry.crc32 = header.crc32;
    std::uint16_t method = describe(entry, header.flags, header.method, extra, header.date, header.time);
    std::string path = decode_name(extra.unicode_path.value_or(header.name),
                                   (header.flags & utf8_bit) != 0 || extra.unicode_path, context.names_in);
    if (path.ends_with('/')) entry.kind = EntryKind::folder;
    entry.path = clean_path(path);
    std::uint64_t data = at + header.length;
    if ((header.flags & descriptor_bit) != 0) {
      if (auto descriptor = find_descriptor(source, data)) {
        entry.stored_size = descriptor->compressed;
        entry.size = descriptor->uncompressed;
        entry.crc32 = descriptor->crc32;
      } else {
        // The end of its data is not known: all that is left is offered to the decoder.
        entry.stored_size = source->size() - std::min(source->size(), data);
        entry.size = Entry::kUnknownSize;
        entry.flags = static_cast<std::uint8_t>(entry.flags & ~Entry::has_crc);
        ++unsized;
      }
    }
    scanner.skip(header.length);
    scanner.skip(entry.stored_size);
    context.limits.count_kept(entry);
    found.entries.push_back(std::move(entry));
    found.places.push_back({at, method});
  }
  findings.add_finding(
      Finding::Level::fault,
      fmt::format("the directory at the end is missing or damaged, so the file is probably cut short; {} "
                  "entries were recovered from their local headers, without comments and permissions",
                  found.entries.size()));
  if (unsized > 0) {
    findings.add_finding(Finding::Level::fault,
                         fmt::format("the size of {} recovered entries is not known", unsized));
  }
  return found;
}

}  // namespace operculum::zip
