#include "format/archive/ar_header.h"

#include "base/text.h"

namespace operculum::ar {

Header Header::read(ByteView block, std::uint64_t offset) {
  Cursor cursor(block, "ar header", offset);
  auto raw = read_structure<RawHeader>(cursor);
  auto number = [&](auto member, int base) {
    std::string_view text = trim(as_text(raw.*member));
    if (text.empty()) return std::uint64_t{0};
    auto value = parse_number(text, base);
    if (!value) refuse_field("ar header", offset, member, "a number", "\"" + escape(text) + "\"");
    return *value;
  };
  if (as_text(raw.ar_fmag) != kHeaderEnd) {
    refuse_field("ar header", offset, &RawHeader::ar_fmag, "\"`\" and a line end",
                 "\"" + escape(as_text(raw.ar_fmag)) + "\"");
  }
  Header header;
  std::string_view name = as_text(raw.ar_name);
  header.name = name.substr(0, name.find_last_not_of(' ') + 1);
  header.date = number(&RawHeader::ar_date, 10);
  header.uid = number(&RawHeader::ar_uid, 10);
  header.gid = number(&RawHeader::ar_gid, 10);
  header.mode = number(&RawHeader::ar_mode, 8);
  header.size = number(&RawHeader::ar_size, 10);
  return header;
}

}  // namespace operculum::ar
