#include "format/archive/tar_editor.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "format/archive/tar_header.h"
#include "format/archive/tar_pax.h"

namespace operculum::tar {
namespace {

constexpr std::size_t kRecord = 20 * kBlock;           // what tapes are written in
constexpr std::uint64_t kLargestOctal = 077777777777;  // 11 digits
constexpr std::string_view kGnuMagic("ustar  \0", 8), kUstarMagic("ustar\00000", 8);
constexpr const char* kGnuLongName = "././@LongLink";

template <std::size_t Size>
void put_text(std::array<Byte, Size>& field, std::string_view text) {
  field.fill(0);
  std::copy_n(text.begin(), std::min(text.size(), Size), field.begin());
}

/// Octal digits and a NUL; the GNU variant's base-256 where they do not suffice.
template <std::size_t Size>
void put_number(std::array<Byte, Size>& field, std::uint64_t value) {
  std::string digits = fmt::format("{:0{}o}", value, Size - 1);
  if (digits.size() < Size) return put_text(field, digits);
  field.fill(0);
  field[0] = 0x80;
  for (std::size_t i = 0; i < sizeof value && i + 1 < Size; ++i)
    field[Size - 1 - i] = static_cast<Byte>(value >> (8 * i));
}

/// The number in the digits that were there: how many, and what ends them.
template <std::size_t Size>
void put_like_before(std::array<Byte, Size>& field, std::uint64_t value) {
  std::size_t digits = 0;
  while (digits < Size && field[digits] >= '0' && field[digits] <= '7') ++digits;
  std::string text = fmt::format("{:0{}o}", value, digits);
  if (digits == 0 || text.size() != digits) return put_number(field, value);
  std::copy(text.begin(), text.end(), field.begin());
}

bool ends_in_slash(const RawHeader& raw) {
  std::string_view name = until_zero(as_text(raw.name));
  return name.ends_with('/');
}

Bytes padded(std::string_view data) {
  Bytes out(data.begin(), data.end());
  out.resize((out.size() + kBlock - 1) / kBlock * kBlock);
  return out;
}

void append(Bytes& out, const Bytes& bytes) {
  out.insert(out.end(), bytes.begin(), bytes.end());
}

/// "LENGTH KEYWORD=VALUE\n"; the length counts itself.
std::string pax_record(std::string_view keyword, std::string_view value) {
  std::size_t rest = keyword.size() + value.size() + 3;
  std::size_t length = rest + std::to_string(rest).size();
  length = rest + std::to_string(length).size();
  return fmt::format("{} {}={}\n", length, keyword, value);
}

/// Puts a path into the name and prefix fields of ustar; false when it does not fit.
bool put_split_path(RawHeader& raw, std::string_view path) {
  if (path.size() <= raw.name.size()) {
    put_text(raw.name, path);
    raw.prefix.fill(0);
    return true;
  }
  for (std::size_t slash = path.find('/'); slash != std::string_view::npos && slash <= raw.prefix.size();
       slash = path.find('/', slash + 1)) {
    if (slash == 0 || path.size() - slash - 1 > raw.name.size() || path.size() - slash - 1 == 0) continue;
    put_text(raw.prefix, path.substr(0, slash));
    put_text(raw.name, path.substr(slash + 1));
    return true;
  }
  return false;
}

/// An extension header, of pax or GNU, and its data.
Bytes extension(char typeflag, std::string_view name, std::string_view data, std::string_view magic) {
  RawHeader raw;
  put_text(raw.name, name);
  put_number(raw.mode, 0644);
  put_number(raw.uid, 0);
  put_number(raw.gid, 0);
  put_number(raw.size, data.size());
  put_number(raw.mtime, 0);
  raw.typeflag[0] = static_cast<Byte>(typeflag);
  put_text(raw.magic, magic);
  Bytes out = raw.block();
  append(out, padded(data));
  return out;
}

/// What stands in front of an entry's own header block.
struct Extensions {
  PaxRecords pax;
  std::optional<RawHeader> pax_header;  // the block in front of the records
  Bytes old_pax, long_name, long_link;  // "x", "L" and "K": header and data, as they lie
  RawHeader own;
  Bytes behind_own;  // blocks of a sparse map
};

Extensions take_apart(ByteView headers) {
  Extensions out;
  std::size_t at = 0;
  for (;;) {
    if (headers.size() - at < kBlock) throw Malformed("tar headers: they are cut short");
    ByteView block = headers.subspan(at, kBlock);
    Header header = Header::read(block, at);
    auto raw = read_structure<RawHeader>(block.data());
    std::uint64_t length = kBlock + (header.size + kBlock - 1) / kBlock * kBlock;
    bool is_extension = std::string_view("xXLK").find(header.typeflag) != std::string_view::npos;
    if (!is_extension) {
      out.own = raw;
      out.behind_own.assign(headers.begin() + static_cast<std::ptrdiff_t>(at + kBlock), headers.end());
      return out;
    }
    if (length > headers.size() - at) throw Malformed("tar headers: an extension is cut short");
    auto size = static_cast<std::size_t>(length);
    ByteView whole = headers.subspan(at, size);
    if (header.typeflag == 'x' || header.typeflag == 'X') {
      out.pax_header = raw;
      out.old_pax.insert(out.old_pax.end(), whole.begin(), whole.end());
      read_pax(whole.subspan(kBlock, static_cast<std::size_t>(header.size)), at + kBlock, out.pax);
    } else {
      (header.typeflag == 'K' ? out.long_link : out.long_name).assign(whole.begin(), whole.end());
    }
    at += size;
  }
}

class TarEditor final : public SequenceEditor {
 public:
  Bytes changed_headers(const OldItem& old, const ItemChange& change) override {
    Extensions parts = take_apart(old.headers);
    PaxRecords pax_before = parts.pax;
    if (change.content != nullptr && old.entry.kind == EntryKind::symbolic_link) {
      put_link(parts, change.content->link_target);
    } else if (change.content != nullptr) {
      put_size(parts, change.size);
    }
    if (change.path != nullptr) place_path(parts, stored_path(old, parts, *change.path));
    if (parts.pax == pax_before) parts.pax.clear();
    Bytes out;
    if (parts.pax_header && parts.pax.empty() && !pax_before.empty()) append(out, parts.old_pax);
    append(out, joined(parts));
    return out;
  }

  Bytes new_headers(const NewEntry& entry, std::uint64_t size, ByteView like) override {
    if (like.empty()) return pax_headers(entry, size);
    RawHeader first = take_apart(like).own;
    std::string_view magic = as_text(first.magic);
    if (magic.starts_with("ustar") && magic != kGnuMagic) return pax_headers(entry, size);
    Extensions made;
    made.own = header_of(entry, size, magic == kGnuMagic ? kGnuMagic : std::string_view());
    if (entry.link_target.size() > made.own.linkname.size())
      made.long_link = extension('K', kGnuLongName, entry.link_target + '\0', kGnuMagic);
    place_path(made, entry.path + (entry.kind == EntryKind::folder ? "/" : ""));
    return joined(made);
  }

  std::uint64_t padding(std::uint64_t length) const override { return (kBlock - length % kBlock) % kBlock; }

  std::optional<std::uint64_t> filling(std::uint64_t size, std::uint64_t old_size) const override {
    if (old_size % kRecord == 0) return end_size(size);
    return 2 * kBlock;
  }

  ContentPtr data_of(const NewEntry& entry) const override {
    return entry.kind == EntryKind::file ? entry.content : nullptr;
  }

 private:
  friend Bytes tar::pax_headers(const NewEntry& entry, std::uint64_t size);

  static RawHeader header_of(const NewEntry& entry, std::uint64_t size, std::string_view magic) {
    RawHeader raw;
    put_number(raw.mode, entry.mode & 07777);
    put_number(raw.uid, entry.user_id);
    put_number(raw.gid, entry.group_id);
    put_number(raw.size, size);
    put_number(raw.mtime, entry.modified.known() && entry.modified.seconds >= 0
                              ? static_cast<std::uint64_t>(entry.modified.seconds)
                              : 0);
    char flag = entry.kind == EntryKind::folder          ? '5'
                : entry.kind == EntryKind::symbolic_link ? '2'
                : entry.kind == EntryKind::hard_link     ? '1'
                                                         : '0';
    raw.typeflag[0] = static_cast<Byte>(flag);
    put_text(raw.linkname, entry.link_target);
    put_text(raw.magic, magic);
    if (magic.empty()) return raw;
    put_text(raw.uname, entry.owner);
    put_text(raw.gname, entry.group);
    return raw;
  }

  /// A file that was sparse is a plain one from now on.
  static void put_size(Extensions& parts, std::uint64_t size) {
    auto name = parts.pax.find("GNU.sparse.name");
    if (name != parts.pax.end()) parts.pax["path"] = std::string(name->second);
    std::erase_if(parts.pax, [](const auto& record) { return record.first.starts_with("GNU.sparse."); });
    if (parts.own.typeflag[0] == 'S') {
      parts.own.typeflag[0] = '0';
      parts.own.prefix.fill(0);  // the GNU variant keeps the map there
      parts.own.rest.fill(0);
    }
    parts.behind_own.clear();
    auto stated = parts.pax.find("size");
    if (stated != parts.pax.end()) stated->second = std::to_string(size);
    bool is_gnu = as_text(parts.own.magic) == kGnuMagic;
    if (size > kLargestOctal && !is_gnu) parts.pax["size"] = std::to_string(size);
    put_like_before(parts.own.size, size > kLargestOctal && !is_gnu ? 0 : size);
  }

  static void put_link(Extensions& parts, const std::string& target) {
    parts.long_link.clear();
    parts.pax.erase("linkpath");
    if (target.size() <= parts.own.linkname.size()) return put_text(parts.own.linkname, target);
    put_text(parts.own.linkname, std::string_view(target).substr(0, parts.own.linkname.size()));
    if (as_text(parts.own.magic) == kGnuMagic) {
      parts.long_link = extension('K', kGnuLongName, target + '\0', kGnuMagic);
    } else {
      parts.pax["linkpath"] = target;
    }
  }

  /// The path with the front that the archive's names have ("./") and the slash of a folder.
  static std::string stored_path(const OldItem& old, const Extensions& parts, std::string path) {
    if (as_text(parts.own.name).starts_with("./")) path = "./" + path;
    bool slash =
        old.entry.kind == EntryKind::folder && (ends_in_slash(parts.own) || !parts.long_name.empty());
    return slash ? path + '/' : path;
  }

  /// Puts a new path where the variant has room for it.
  static void place_path(Extensions& parts, const std::string& path) {
    parts.pax.erase("path");
    parts.long_name.clear();
    auto sparse = parts.pax.find("GNU.sparse.name");
    if (sparse != parts.pax.end()) {
      sparse->second = path;
      return;
    }
    if (as_text(parts.own.magic) == kGnuMagic) {
      put_text(parts.own.name, path);
      if (path.size() > parts.own.name.size())
        parts.long_name = extension('L', kGnuLongName, path + '\0', kGnuMagic);
      return;
    }
    bool is_v7 = !as_text(parts.own.magic).starts_with("ustar");
    if (is_v7 && path.size() > parts.own.name.size())
      throw Unsupported("a name of more than 100 bytes in a tar archive of the old v7 form");
    if (is_v7) return put_text(parts.own.name, path);
    if (put_split_path(parts.own, path)) return;
    put_text(parts.own.name, std::string_view(path).substr(0, parts.own.name.size()));
    parts.own.prefix.fill(0);
    parts.pax["path"] = path;
  }

  /// All headers of an entry; its pax records are written anew.
  static Bytes joined(const Extensions& parts) {
    Bytes out;
    if (!parts.pax.empty()) append(out, pax_extension(parts));
    append(out, parts.long_link);
    append(out, parts.long_name);
    append(out, parts.own.block());
    append(out, parts.behind_own);
    return out;
  }

  static Bytes pax_extension(const Extensions& parts) {
    std::string records;
    for (const auto& [keyword, value] : parts.pax) records += pax_record(keyword, value);
    if (!parts.pax_header) {
      std::string_view name = as_text(parts.own.name);
      std::string_view base = base_name(until_zero(name));
      return extension('x', fmt::format("PaxHeaders/{}", base), records, kUstarMagic);
    }
    RawHeader raw = *parts.pax_header;
    put_like_before(raw.size, records.size());
    Bytes out = raw.block();
    append(out, padded(records));
    return out;
  }
};

}  // namespace

std::unique_ptr<SequenceEditor> make_editor() {
  return std::make_unique<TarEditor>();
}

Bytes pax_headers(const NewEntry& entry, std::uint64_t size) {
  Extensions parts;
  bool large = size > kLargestOctal;
  parts.own = TarEditor::header_of(entry, large ? 0 : size, kUstarMagic);
  if (large) parts.pax["size"] = std::to_string(size);
  const Timestamp& time = entry.modified;
  if (time.known() && time.seconds < 0) parts.pax["mtime"] = std::to_string(time.seconds);
  if (time.known() && time.seconds >= 0 && time.nanoseconds != 0)
    parts.pax["mtime"] = fmt::format("{}.{:09}", time.seconds, time.nanoseconds);
  if (entry.link_target.size() > parts.own.linkname.size()) parts.pax["linkpath"] = entry.link_target;
  TarEditor::place_path(parts, entry.path + (entry.kind == EntryKind::folder ? "/" : ""));
  return TarEditor::joined(parts);
}

std::uint64_t end_size(std::uint64_t size) {
  std::uint64_t least = size + 2 * kBlock;
  return (least + kRecord - 1) / kRecord * kRecord - size;
}

}  // namespace operculum::tar
