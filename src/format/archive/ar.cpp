// ar: the common archive form of System V and BSD Unix (ar(5)), with long names in the GNU name table ("//"),
// the System V reference form ("/123"), and the BSD form ("#1/length", the name in front of the data).
#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/text.h"
#include "container/identify.h"
#include "container/sequence.h"
#include "format/formats.h"

namespace operculum {
namespace {

constexpr std::string_view kMagic = "!<arch>\n";
constexpr std::string_view kThinMagic = "!<thin>\n";
constexpr std::size_t kHeader = 60;
constexpr std::string_view kHeaderEnd = "`\n";
constexpr std::uint64_t kMaxNames = 64 << 20;

struct Header {
  std::string_view ar_name;
  std::uint64_t ar_date = 0, ar_uid = 0, ar_gid = 0, ar_mode = 0, ar_size = 0;

  static Header read(ByteView block, std::uint64_t offset) {
    Cursor cursor(block, "ar header", offset);
    auto number = [&](std::size_t length, int base, const char* field) {
      std::string_view text = trim(cursor.text(length));
      if (text.empty()) return std::uint64_t{0};
      auto value = parse_number(text, base);
      if (!value)
        cursor.fail(fmt::format("a number in the field \"{}\"", field), fmt::format("\"{}\"", escape(text)));
      return *value;
    };
    Header h;
    h.ar_name = cursor.text(16);
    h.ar_date = number(12, 10, "date");
    h.ar_uid = number(6, 10, "uid");
    h.ar_gid = number(6, 10, "gid");
    h.ar_mode = number(8, 8, "mode");
    h.ar_size = number(10, 10, "size");
    std::string_view end = cursor.text(2);
    if (end != kHeaderEnd) cursor.fail("\"`\" and a line end", fmt::format("\"{}\"", escape(end)));
    h.ar_name = h.ar_name.substr(0, h.ar_name.find_last_not_of(' ') + 1);
    return h;
  }
};

class ArParser final : public SequenceParser {
 public:
  bool next(InputBuffer& input, SequenceItem& item) override {
    if (!started_) {
      input.skip(kMagic.size());
      started_ = true;
    }
    for (;;) {
      std::uint64_t offset = input.consumed();
      ByteView block = input.ensure(kHeader);
      if (block.empty()) return false;
      if (block.size() < kHeader && trim(as_text(block)).empty()) return false;
      Bytes copy(block.begin(), block.begin() + static_cast<std::ptrdiff_t>(std::min(kHeader, block.size())));
      Header header = Header::read(copy, offset);
      input.consume(kHeader);
      std::uint64_t padding = header.ar_size % 2;
      if (header.ar_name == "//") {
        names_ = read_text(input, header.ar_size);
        input.skip(padding);
        continue;
      }
      Entry& entry = item.entry;
      std::uint64_t size = header.ar_size;
      entry.path = clean_path(name_of_member(input, header, size, offset));
      entry.mode = static_cast<std::uint32_t>(header.ar_mode & 07777);
      entry.modified = from_unix(static_cast<std::int64_t>(header.ar_date));
      entry.size = entry.stored_size = size;
      entry.offset = input.consumed();
      entry.extras().user_id = static_cast<std::uint32_t>(header.ar_uid);
      entry.extras().group_id = static_cast<std::uint32_t>(header.ar_gid);
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
    std::string_view name = header.ar_name;
    if (name.starts_with("#1/")) {
      auto length = parse_number(name.substr(3));
      if (!length || *length > size || *length > 65536) {
        throw Malformed(fmt::format("ar header at offset {}: a name of {} bytes in a member of {}", offset,
                                    name.substr(3), size));
      }
      std::string text = read_text(input, *length);
      size -= *length;
      return text.substr(0, text.find('\0'));
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
  ByteView head = probe.head(kMagic.size() + kHeader);
  if (starts_with(head, kThinMagic)) return Match::front;
  if (!starts_with(head, kMagic)) return Match::none;
  if (head.size() == kMagic.size()) return Match::front;  // an empty archive
  bool header_fits = head.size() == kMagic.size() + kHeader && as_text(head).ends_with(kHeaderEnd);
  return header_fits ? Match::front : Match::none;
}

ContainerPtr open_ar(const Input& input, OpenContext& context) {
  Probe probe = make_probe(*input.content, input.name);
  if (starts_with(probe.head(8), kThinMagic))
    throw Unsupported("a thin ar archive: it holds names only, the data lies in other files");
  return make_sequence(input, context, [] { return std::make_unique<ArParser>(); });
}

}  // namespace

Format ar_format() {
  return {.id = "ar",
          .name = "ar archive",
          .family = "archive",
          .specification = "ar(5), common form, GNU and BSD long names; deb(5)",
          .reads = "common, GNU and BSD long names, symbol tables as entries",
          .lacks = "thin archives (their data lies elsewhere)",
          .suffixes = {".a", ".ar"},
          .recognise = recognise_ar,
          .open = open_ar};
}

}  // namespace operculum
