// An ISO 9660 disc from scratch, with Rock Ridge and Joliet: an empty one, into which everything is put.
#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "format/filesystem/iso_fields.h"
#include "format/filesystem/iso_rewrite.h"
#include "format/formats.h"

namespace operculum {
namespace {

using namespace iso;

/// Where the parts of the empty disc lie, in sectors.
enum Place : std::uint32_t {
  primary = 16,
  supplementary,
  terminator,
  table,
  big_table,
  joliet_table,
  joliet_big_table,
  root,
  joliet_root,
  end,
};

constexpr Byte kSelf[] = {0}, kParent[] = {1};

void put(Bytes& out, std::size_t at, ByteView bytes) {
  std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}

/// A text of a descriptor: filled up with blanks, which are of two bytes in Joliet's.
void put_blanks(Bytes& out, std::size_t at, std::size_t length, NameForm form) {
  for (std::size_t i = 0; i < length; ++i)
    out[at + i] = form == NameForm::plain || i % 2 != 0 ? Byte{' '} : Byte{0};
}

Bytes descriptor(NameForm form, const Timestamp& made) {
  bool wide = form == NameForm::joliet;
  Bytes out(kSector);
  out[0] = wide ? 2 : 1;
  put(out, 1, as_bytes(kMark));
  out[6] = 1;
  struct Blank {
    std::size_t at, length;
  };
  static constexpr Blank kTexts[] = {{8, 32}, {40, 32}, {190, 512}, {702, 111}};
  for (const Blank& one : kTexts) put_blanks(out, one.at, one.length, form);
  if (wide) put(out, 88, as_bytes("%/E"));
  put_both32(out.data() + 80, Place::end);
  put_both16(out.data() + 120, 1);
  put_both16(out.data() + 124, 1);
  put_both16(out.data() + 128, kSector);
  constexpr std::uint32_t kTableSize = 10;  // of the root folder alone
  put_both32(out.data() + 132, kTableSize);
  out[140] = static_cast<Byte>(wide ? joliet_table : table);
  out[151] = static_cast<Byte>(wide ? joliet_big_table : big_table);
  put(out, 156, folder_record(wide ? joliet_root : root, kSector, made, kFolderFlag, kSelf, {}));
  put(out, 813, long_date_bytes(made));
  put(out, 830, long_date_bytes(made));
  put(out, 847, long_date_bytes({}));
  put(out, 864, long_date_bytes({}));
  out[881] = 1;
  return out;
}

Bytes root_folder(NameForm form, const TreeNode& node) {
  bool wide = form == NameForm::joliet;
  std::uint32_t place = wide ? joliet_root : root;
  Bytes own, above;
  if (!wide) {
    Bytes px = ridge_fields("", node).front();
    above = px;
    own = system_use_field("SP", Bytes{0xBE, 0xEF, 0});
    own.insert(own.end(), px.begin(), px.end());
    constexpr std::string_view kName = "RRIP_1991A";
    Bytes contents = {static_cast<Byte>(kName.size()), 0, 0, 1};
    contents.insert(contents.end(), kName.begin(), kName.end());
    Bytes er = system_use_field("ER", contents);
    own.insert(own.end(), er.begin(), er.end());
  }
  Bytes out = folder_record(place, kSector, node.modified, kFolderFlag, kSelf, own);
  Bytes second = folder_record(place, kSector, node.modified, kFolderFlag, kParent, above);
  out.insert(out.end(), second.begin(), second.end());
  return out;
}

SourcePtr empty_disc(const TreeNode& node) {
  Bytes out(end * kSector);
  put(out, primary * kSector, descriptor(NameForm::plain, node.modified));
  put(out, supplementary * kSector, descriptor(NameForm::joliet, node.modified));
  out[terminator * kSector] = 255;
  put(out, terminator * kSector + 1, as_bytes(kMark));
  out[terminator * kSector + 6] = 1;
  put(out, root * kSector, root_folder(NameForm::plain, node));
  put(out, joliet_root * kSector, root_folder(NameForm::joliet, node));
  return make_memory_source(std::move(out));
}

}  // namespace

Assembly pack_iso(const std::vector<NewEntry>& entries, const Writing& writing) {
  if (!writing.choice.method.empty() && writing.choice.method != "stored")
    throw Unsupported("the method \"" + escape(writing.choice.method) + "\" on an ISO 9660 disc");
  TreeNode tree = new_tree(entries);
  tree.modified = from_unix(latest_time(tree));
  SourcePtr image = empty_disc(tree);
  RecordReader reader(image, kSector);
  reader.find_protocol(read_exactly(*image, root * kSector, kSector, "ISO 9660 folder"));
  OldDisc disc{image, reader, {}, {NameForm::plain, true, primary * kSector, {}}, std::nullopt};
  disc.other = DiscTree{NameForm::joliet, false, supplementary * kSector, {}};
  auto no_name = [](const Record&) { return std::string(); };
  TreeLoader(*image, reader, true, no_name).load(disc.shown.root, root, kSector);
  TreeLoader(*image, reader, false, no_name).load(disc.other->root, joliet_root, kSector);
  return rewrite(disc, {}, tree, writing.spool);
}

}  // namespace operculum
