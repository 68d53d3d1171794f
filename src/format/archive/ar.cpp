// ar: the common archive form of System V and BSD Unix (ar(5)), with long names in the GNU name table ("//"),
// the System V reference form ("/123"), and the BSD form ("#1/length", the name in front of the data).
#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "container/identify.h"
#include "container/record_fields.h"
#include "container/sequence.h"
#include "format/archive/ar_editor.h"
#include "format/archive/ar_header.h"
#include "format/archive/formats.h"

namespace operculum {
namespace {

using namespace ar;

constexpr std::uint64_t kMaxNames = 64 << 20;  // bytes of a table of long names

class ArParser final : public SequenceParser {
 public:
  bool next(InputBuffer& input, SequenceItem& item) override {
    if (!started_) {
      input.skip(kMagic.size());
      started_ = true;
    }
    for (;;) {
      std::uint64_t offset = input.consumed();
      ByteView block = input.ensure(kHeaderSize);
      if (block.empty()) return false;
      if (block.size() < kHeaderSize && trim(as_text(block)).empty()) return false;
      Bytes copy(block.begin(),
                 block.begin() + static_cast<std::ptrdiff_t>(std::min(kHeaderSize, block.size())));
      Header header = Header::read(copy, offset);
      input.consume(kHeaderSize);
      std::uint64_t padding = header.size % 2;
      if (header.name == "//") {
        names_ = read_text(input, header.size);
        input.skip(padding);
        continue;
      }
      Entry& entry = item.entry;
      std::uint64_t size = header.size;
      entry.path = clean_path(name_of_member(input, header, size, offset));
      entry.mode = static_cast<std::uint32_t>(header.mode & 07777);
      entry.modified = from_unix(static_cast<std::int64_t>(header.date));
      entry.size = entry.stored_size = size;
      entry.stored_at = input.consumed();
      item.begin = offset;
      entry.extras().user_id = static_cast<std::uint32_t>(header.uid);
      entry.extras().group_id = static_cast<std::uint32_t>(header.gid);
      item.packed = size;
      item.padding = padding;
      return true;
    }
  }

 private:
  static std::string read_text(InputBuffer& input, std::uint64_t size) {
    if (size > kMaxNames) throw LimitExceeded("an ar name table of more than 64 MiB");
    std::string text;
    while (text.size() < size) {
      ByteView there = input.view();
      if (there.empty()) throw Malformed("ar name table: the file is cut short within it");
      there = there.first(std::min<std::size_t>(there.size(), size - text.size()));
      text += as_text(there);
      input.consume(there.size());
    }
    return text;
  }

  /// The member's name; a BSD name in front of the data is read, and `size` becomes what is left.
  std::string name_of_member(InputBuffer& input, const Header& header, std::uint64_t& size,
                             std::uint64_t offset) const {
    std::string_view name = header.name;
    if (name.starts_with("#1/")) {
      auto length = parse_number(name.substr(3));
      if (!length || *length > size || *length > 65536) {
        throw Malformed(fmt::format("ar header at offset {}: a name of {} bytes in a member of {}", offset,
                                    name.substr(3), size));
      }
      std::string text = read_text(input, *length);
      size -= *length;
      return std::string(until_zero(text));
    }
    if (name == "/" || name == "/SYM64/") return name == "/" ? "symbol-table" : "symbol-table-64";
    if (name.size() > 1 && name[0] == '/') {
      auto at = parse_number(name.substr(1));
      if (!at || *at >= names_.size()) {
        throw Malformed(fmt::format("ar header at offset {}: the name \"{}\" points outside the name table",
                                    offset, escape(name)));
      }
      std::string text = names_.substr(static_cast<std::size_t>(*at),
                                       names_.find('\n', static_cast<std::size_t>(*at)) - *at);
      if (text.ends_with('/')) text.pop_back();
      return text;
    }
    if (name.size() > 1 && name.ends_with('/')) name.remove_suffix(1);  // System V marks the end of a name so
    return std::string(name);
  }

  bool started_ = false;
  std::string names_;
};

Match recognise_ar(Probe& probe) {
  ByteView head = probe.head(kMagic.size() + kHeaderSize);
  if (starts_with(head, kThinMagic)) return Match::front;
  if (!starts_with(head, kMagic)) return Match::none;
  if (head.size() == kMagic.size()) return Match::front;  // an empty archive
  bool header_fits = head.size() == kMagic.size() + kHeaderSize && as_text(head).ends_with(kHeaderEnd);
  return header_fits ? Match::front : Match::none;
}

ContainerPtr open_ar(const Input& input, OpenContext& context) {
  Probe probe = make_probe(*input.content, input.name);
  if (starts_with(probe.head(8), kThinMagic))
    throw Unsupported("a thin ar archive: it holds names only, the data lies in other files");
  return make_sequence(
      input, context, [] { return std::make_unique<ArParser>(); }, make_editor);
}

}  // namespace

Assembly pack_ar(const std::vector<NewEntry>& entries, const Writing& writing) {
  auto editor = make_editor();
  Assembly out;
  out.add(Bytes(kMagic.begin(), kMagic.end()));
  for (const NewEntry& entry : entries) {
    out.add(editor->new_headers(entry, entry.size, {}));
    out.add(random_access(*entry.content, writing.spool));
    out.add(Bytes(static_cast<std::size_t>(out.size() % 2), kFilling));
  }
  return out;
}

Format ar_format() {
  return {.id = "ar",
          .name = "ar archive",
          .family = "archive",
          .specification = "ar(5), common form, GNU and BSD long names; deb(5)",
          .reads = "common, GNU and BSD long names, symbol tables as entries",
          .lacks = "thin archives (their data lies elsewhere)",
          .writes = "members as they are; the symbol table of a library is kept as it was",
          .suffixes = {".a", ".ar"},
          .forward = true,
          .recognise = recognise_ar,
          .open = open_ar,
          .pack = pack_ar,
          .keeps = {.folders = false, .links = false, .hard_links = false},
          .records = {record_at<RawHeader>("first header", 8)}};
}

}  // namespace operculum
