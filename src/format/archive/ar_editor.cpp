#include "format/archive/ar_editor.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "format/archive/ar_header.h"

namespace operculum::ar {
namespace {

constexpr std::string_view kBsdName = "#1/";  // the name lies in front of the data

template <std::size_t Size>
void put_text(std::array<Byte, Size>& field, std::string_view text, const char* what) {
  if (text.size() > Size)
    throw Unsupported(fmt::format("{} of more than {} characters in an ar archive", what, Size));
  field.fill(' ');
  std::copy(text.begin(), text.end(), field.begin());
}

class ArEditor final : public SequenceEditor {
 public:
  Bytes changed_headers(const OldItem& old, const ItemChange& change) override {
    auto raw = read_structure<RawHeader>(old.headers.data());
    Header header = Header::read(old.headers, 0);
    std::string name_in_front(as_text(old.headers.subspan(kHeaderSize)));
    std::uint64_t size = change.content != nullptr ? change.size : header.size - name_in_front.size();
    bool slash =
        header.name.ends_with('/') || header.name.starts_with('/');  // as System V and GNU write names
    if (change.path != nullptr) name_in_front = put_name(raw, *change.path, slash);
    put_text(raw.ar_size, std::to_string(size + name_in_front.size()), "a size");
    return bytes_of(raw, name_in_front);
  }

  Bytes new_headers(const NewEntry& entry, std::uint64_t size, ByteView like) override {
    if (entry.kind != EntryKind::file)
      throw Unsupported(fmt::format("a {} in an ar archive: {}", name_of(entry.kind), escape(entry.path)));
    bool slash = like.size() >= kHeaderSize &&
                 as_text(like.first(sizeof RawHeader::ar_name)).find('/') != std::string_view::npos;
    RawHeader raw;
    std::string name_in_front = put_name(raw, entry.path, slash);
    std::int64_t seconds = entry.modified.known() ? std::max<std::int64_t>(entry.modified.seconds, 0) : 0;
    put_text(raw.ar_date, std::to_string(seconds), "a time");
    put_text(raw.ar_uid, std::to_string(entry.user_id), "a user's number");
    put_text(raw.ar_gid, std::to_string(entry.group_id), "a group's number");
    put_text(raw.ar_mode, fmt::format("{:o}", S_IFREG | (entry.mode & 07777)), "a mode");
    put_text(raw.ar_size, std::to_string(size + name_in_front.size()), "a size");
    put_text(raw.ar_fmag, kHeaderEnd, "the mark");
    return bytes_of(raw, name_in_front);
  }

  std::uint64_t padding(std::uint64_t length) const override { return length % 2; }
  Byte filler() const override { return kFilling; }

 private:
  /// Puts a name into the header; returns what of it lies in front of the data.
  static std::string put_name(RawHeader& raw, const std::string& name, bool slash) {
    std::string with_mark = slash ? name + "/" : name;
    bool fits = with_mark.size() <= raw.ar_name.size() && name.find(' ') == std::string::npos;
    if (fits) {
      put_text(raw.ar_name, with_mark, "a name");
      return "";
    }
    if (name.find('\0') != std::string::npos)  // there zeros only fill up
      throw Unsupported(fmt::format("the name \"{}\" in an ar archive", escape(name)));
    put_text(raw.ar_name, fmt::format("{}{}", kBsdName, name.size()), "a name");
    return name;
  }

  static Bytes bytes_of(const RawHeader& raw, const std::string& name_in_front) {
    Bytes out;
    append_structure(out, raw);
    out.insert(out.end(), name_in_front.begin(), name_in_front.end());
    return out;
  }
};

}  // namespace

std::unique_ptr<SequenceEditor> make_editor() {
  return std::make_unique<ArEditor>();
}

}  // namespace operculum::ar
