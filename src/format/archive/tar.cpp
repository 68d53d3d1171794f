// tar: POSIX.1-1988 ustar and POSIX.1-2001 pax interchange formats, the older v7 form, and the GNU variant
// (long names and links, base-256 numbers, old sparse files); sparse formats 0.0, 0.1 and 1.0 in pax records.
#include <fmt/format.h>

#include <algorithm>

#include "base/checked.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "container/sequence.h"
#include "format/archive/formats.h"
#include "format/archive/tar_editor.h"
#include "format/archive/tar_header.h"
#include "format/archive/tar_pax.h"

namespace operculum {
namespace {

using namespace tar;

constexpr std::uint64_t kMaxMetadata =
    16 << 20;  // bytes of one pax header or long name; real ones have a few hundred
constexpr std::size_t kMaxExtents = 4'000'000;

std::uint64_t padding_of(std::uint64_t size) {
  return (kBlock - size % kBlock) % kBlock;
}

EntryKind kind_of(char typeflag, std::string_view name) {
  switch (typeflag) {
    case '1':
      return EntryKind::hard_link;
    case '2':
      return EntryKind::symbolic_link;
    case '3':
      return EntryKind::character_device;
    case '4':
      return EntryKind::block_device;
    case '5':
    case 'D':
      return EntryKind::folder;  // 'D': GNU incremental, the data lists names
    case '6':
      return EntryKind::fifo;
    case '\0':  // of archives from before typeflags: there a slash at the end makes a folder
      return name.ends_with('/') ? EntryKind::folder : EntryKind::file;
    default:
      return EntryKind::file;
  }
}

class TarParser final : public SequenceParser {
 public:
  explicit TarParser(std::string names_in) : names_in_(std::move(names_in)) {}

  bool next(InputBuffer& input, SequenceItem& item) override {
    PaxRecords own;
    std::string long_name, long_link;
    std::optional<std::uint64_t> begin;
    for (;;) {
      std::uint64_t offset = input.consumed();
      ByteView block = input.ensure(kBlock);
      if (block.empty()) {
        report(Finding::Level::note,
               "the two zero blocks that end a tar archive are missing; it may be cut short");
        return false;
      }
      if (block.size() < kBlock) {
        throw Malformed(
            fmt::format("tar header at offset {}: expected {} bytes, found {}; the file is cut short", offset,
                        kBlock, block.size()));
      }
      block = block.first(kBlock);
      if (is_zero_block(block)) {
        if (at_end(input)) return false;
        continue;
      }
      if (!checksum_fits(block) && seen_any_) {
        resynchronise(input);
        continue;
      }
      Bytes copy(block.begin(), block.end());
      Header header = Header::read(copy, offset);
      seen_any_ = true;
      input.consume(kBlock);
      bool archives_own = header.typeflag == 'g' || header.typeflag == 'V';
      if (!begin && !archives_own) begin = offset;
      switch (header.typeflag) {
        case 'g':
          read_pax(metadata(input, header), offset + kBlock, global_);
          continue;
        case 'X':
        case 'x':
          read_pax(metadata(input, header), offset + kBlock, own);
          continue;
        case 'L':
          long_name = text_of(metadata(input, header));
          continue;
        case 'K':
          long_link = text_of(metadata(input, header));
          continue;
        case 'V':
          input.skip(header.size + padding_of(header.size));
          continue;  // GNU volume label
        case 'M':
          throw Unsupported("a tar archive that continues a file of another volume");
        default:
          break;
      }
      describe(input, header, {own, global_}, long_name, long_link, item);
      item.begin = *begin;
      return true;
    }
  }

 private:
  /// At a zero block: the end when a second one follows or nothing does; else passes over the stray one.
  bool at_end(InputBuffer& input) {
    input.consume(kBlock);
    ByteView second = input.ensure(kBlock);
    if (second.empty()) return true;
    if (second.size() >= kBlock && !is_zero_block(second.first(kBlock))) {
      report(Finding::Level::warning,
             "a lone zero block lies between entries; what follows was read all the same");
      return false;
    }
    // Anything but zeros behind the end mark is worth knowing.
    input.skip_zeros();
    if (!input.view().empty()) {
      report(Finding::Level::note,
             fmt::format("bytes that are not padding follow the archive's end, from offset {}",
                         input.consumed()));
    }
    return true;
  }

  /// Moves to the next block that looks like a header; told as a fault.
  void resynchronise(InputBuffer& input) {
    std::uint64_t from = input.consumed();
    for (;;) {
      ByteView block = input.ensure(kBlock);
      if (block.size() < kBlock) {
        input.consume(block.size());
        break;
      }
      if (checksum_fits(block.first(kBlock)) || is_zero_block(block.first(kBlock))) break;
      input.consume(kBlock);
    }
    report(Finding::Level::fault,
           fmt::format("damaged headers between offsets {} and {}; entries may be missing there", from,
                       input.consumed()));
  }

  static Bytes metadata(InputBuffer& input, const Header& header) {
    if (header.size > kMaxMetadata) {
      throw LimitExceeded(
          fmt::format("a tar extension header of {} bytes; real ones are far below 16 MiB", header.size));
    }
    Bytes data;
    while (data.size() < header.size) {
      ByteView there = input.view();
      if (there.empty()) throw Malformed("tar extension header: the file is cut short within it");
      there = there.first(std::min<std::size_t>(there.size(), header.size - data.size()));
      data.insert(data.end(), there.begin(), there.end());
      input.consume(there.size());
    }
    input.skip(padding_of(header.size));
    return data;
  }

  static std::string text_of(const Bytes& data) {
    std::string_view text = as_text(data);
    return std::string(until_zero(text));
  }

  std::string name_text(std::string raw) const {
    if (names_in_.empty()) return raw;
    return to_utf8(raw, names_in_).value_or(raw);
  }

  void describe(InputBuffer& input, const Header& header, const PaxScope& pax, const std::string& long_name,
                const std::string& long_link, SequenceItem& item) {
    Entry& entry = item.entry;
    auto value = [&](std::string_view keyword) { return tar::find(pax, keyword); };
    std::string name = long_name;
    if (name.empty())
      name =
          header.prefix.empty() ? std::string(header.name) : fmt::format("{}/{}", header.prefix, header.name);
    std::string link = long_link.empty() ? std::string(header.linkname) : long_link;
    if (!value("path")) name = name_text(std::move(name));
    if (!value("linkpath")) link = name_text(std::move(link));
    if (auto* path = value("path")) name = *path;
    if (auto* path = value("GNU.sparse.name")) name = *path;
    if (auto* path = value("linkpath")) link = *path;
    entry.kind = kind_of(header.typeflag, name);
    entry.path = clean_path(name);
    entry.mode = static_cast<std::uint32_t>(header.mode & 07777);
    entry.modified = from_unix(header.mtime);
    if (auto* time = value("mtime")) entry.modified = pax_time(*time);

    std::uint64_t size = header.size;
    if (auto* stated = value("size")) size = pax_number("size", *stated);
    bool has_data = entry.kind == EntryKind::file || header.typeflag == 'D' || header.typeflag == '7';
    // A hard link may carry data in pax archives; its size field is to be believed only there.
    if (entry.kind == EntryKind::hard_link && !pax.empty() && size > 0) has_data = true;
    item.packed = has_data ? size : 0;
    item.padding = padding_of(item.packed);
    entry.size = entry.stored_size = entry.kind == EntryKind::file ? size : 0;
    if (entry.kind == EntryKind::hard_link) entry.size = entry.stored_size = 0;

    fill_extra(entry, header, pax, link);
    read_sparse(input, header, pax, item);
    entry.stored_at = input.consumed();
  }

  static void fill_extra(Entry& entry, const Header& header, const PaxScope& pax, const std::string& link) {
    EntryExtra& extra = entry.extras();
    if (entry.kind == EntryKind::symbolic_link) extra.link_target = link;
    if (entry.kind == EntryKind::hard_link) extra.link_target = clean_path(link);
    extra.owner = header.uname;
    extra.group = header.gname;
    extra.user_id = static_cast<std::uint32_t>(header.uid);
    extra.group_id = static_cast<std::uint32_t>(header.gid);
    extra.device_major = static_cast<std::uint32_t>(header.devmajor);
    extra.device_minor = static_cast<std::uint32_t>(header.devminor);
    auto value = [&](std::string_view keyword) { return tar::find(pax, keyword); };
    if (auto* name = value("uname")) extra.owner = *name;
    if (auto* name = value("gname")) extra.group = *name;
    if (auto* id = value("uid")) extra.user_id = static_cast<std::uint32_t>(pax_number("uid", *id));
    if (auto* id = value("gid")) extra.group_id = static_cast<std::uint32_t>(pax_number("gid", *id));
    if (auto* time = value("atime")) extra.accessed = pax_time(*time);
    if (auto* time = value("ctime")) extra.changed = pax_time(*time);
    if (auto* time = value("LIBARCHIVE.creationtime")) extra.created = pax_time(*time);
    auto comment = pax.own.find("comment");  // one for the whole archive is no entry's
    if (comment != pax.own.end()) extra.comment = comment->second;
  }

  /// The four sparse forms. The map of the old GNU form lies in the header and blocks behind it, that of
  /// form 1.0 in front of the data; both count as header, so that `packed` is what the extents hold.
  static void read_sparse(InputBuffer& input, const Header& header, const PaxScope& pax, SequenceItem& item) {
    auto value = [&](std::string_view keyword) { return tar::find(pax, keyword); };
    if (header.typeflag == 'S' && header.variant == Header::Variant::gnu) {
      item.entry.size = read_old_gnu(input, header, item.extents);
    } else if (auto* major = value("GNU.sparse.major"); major != nullptr && *major == "1") {
      std::uint64_t map_bytes = read_map_1_0(input, item.packed, item.extents);
      item.packed -= map_bytes;
      if (auto* size = value("GNU.sparse.realsize"))
        item.entry.size = pax_number("GNU.sparse.realsize", *size);
    } else if (auto* map = value("GNU.sparse.map")) {
      item.extents = parse_sparse_map(*map);
      if (auto* size = value("GNU.sparse.size")) item.entry.size = pax_number("GNU.sparse.size", *size);
    } else {
      return;
    }
    std::erase_if(item.extents, [](const Extent& extent) { return extent.length == 0; });
    item.entry.flags |= Entry::sparse;
    item.entry.stored_size = item.packed;
  }

  static void append(std::vector<Extent>& extents, std::uint64_t logical, std::uint64_t length) {
    if (extents.size() >= kMaxExtents) throw LimitExceeded("a sparse file with more than 4,000,000 extents");
    std::uint64_t stored =
        extents.empty() ? 0 : checked_add(extents.back().stored, extents.back().length, "a sparse map");
    extents.push_back({logical, stored, length});
  }

  /// Returns the real size. The header holds four pairs from byte 386 on, then "extended" at 482 and the size
  /// at 483; each extension block 21 pairs and "extended" at 504.
  static std::uint64_t read_old_gnu(InputBuffer& input, const Header& header, std::vector<Extent>& extents) {
    auto field = [](ByteView block, std::size_t at) {
      auto number = parse_field(as_text(block.subspan(at, 12)));
      if (!number || *number < 0)
        throw Malformed("tar sparse map: expected a number, found other characters");
      return static_cast<std::uint64_t>(*number);
    };
    auto pairs = [&](ByteView block, std::size_t at, int count) {
      for (int i = 0; i < count; ++i, at += 24) {
        if (block[at] != 0) append(extents, field(block, at), field(block, at + 12));
      }
    };
    pairs(header.raw, 386, 4);
    for (bool extended = header.raw[482] != 0; extended;) {
      ByteView block = input.ensure(kBlock);
      if (block.size() < kBlock) throw Malformed("tar sparse map: the file is cut short within it");
      pairs(block, 0, 21);
      extended = block[504] != 0;
      input.consume(kBlock);
    }
    return field(header.raw, 483);
  }

  /// Decimal lines in front of the data, padded to a whole block: the count, then offset and length of each
  /// extent.
  static std::uint64_t read_map_1_0(InputBuffer& input, std::uint64_t packed, std::vector<Extent>& extents) {
    std::uint64_t used = 0;
    auto line = [&] {
      std::string digits;
      for (;;) {
        ByteView there = input.view();
        if (there.empty() || used >= packed || digits.size() > 20)
          throw Malformed("sparse map 1.0: expected decimal lines in front of the data");
        char c = static_cast<char>(there[0]);
        input.consume(1);
        ++used;
        if (c == '\n') break;
        digits += c;
      }
      return pax_number("sparse map 1.0", digits);
    };
    std::uint64_t count = line();
    for (std::uint64_t i = 0; i < count; ++i) {
      std::uint64_t logical = line();
      append(extents, logical, line());
    }
    std::uint64_t rest = padding_of(used);
    if (used + rest > packed) throw Malformed("sparse map 1.0: it is larger than the entry");
    input.skip(rest);
    return used + rest;
  }

  std::string names_in_;
  PaxRecords global_;
  bool seen_any_ = false;
};

Match recognise_tar(Probe& probe) {
  ByteView block = probe.head(kBlock);
  if (!checksum_fits(block)) return Match::none;
  try {
    Header header = Header::read(block, 0);
    if (header.variant != Header::Variant::v7) return Match::front;
    // v7 has no magic: the checksum, a name, and fields that are numbers must do.
    bool name_fits = !header.name.empty() && header.mode <= 0177777 &&
                     (header.typeflag == '\0' || (header.typeflag >= '0' && header.typeflag <= '7'));
    return name_fits ? Match::front : Match::none;
  } catch (const Error&) {
    return Match::none;
  }
}

ContainerPtr open_tar(const Input& input, OpenContext& context) {
  return make_sequence(
      input, context, [names_in = context.names_in] { return std::make_unique<TarParser>(names_in); },
      make_editor);
}

}  // namespace

Assembly pack_tar(const std::vector<NewEntry>& entries, const Writing& writing) {
  Assembly out;
  for (const NewEntry& entry : entries) {
    std::uint64_t size = entry.kind == EntryKind::file ? entry.size : 0;
    out.add(pax_headers(entry, size));
    if (size > 0) out.add(random_access(*entry.content, writing.spool));
    out.add_zeros(padding_of(size));
  }
  out.add_zeros(end_size(out.size()));
  return out;
}

Format tar_format() {
  return {
      .id = "tar",
      .name = "tar archive",
      .family = "archive",
      .specification = "POSIX.1-2001 (pax, ustar), v7, GNU variant",
      .reads =
          "long names and links, pax records (global and per entry), base-256 numbers, sparse files (old "
          "GNU, 0.0, "
          "0.1, 1.0), hard and symbolic links, devices, recovery behind damaged headers",
      .lacks = "archives that continue on another volume",
      .writes =
          "entries in the variant that they have (v7, ustar, pax, GNU); sparse files become plain ones when "
          "they are replaced",
      .suffixes = {".tar"},
      .forward = true,
      .later_replaces = true,
      .recognise = recognise_tar,
      .open = open_tar,
      .pack = pack_tar,
      .records = {record_at<RawHeader>("first header", 0)}};
}

}  // namespace operculum
