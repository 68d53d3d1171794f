// An ISO 9660 disc from scratch, with Rock Ridge and Joliet: an empty one, into which everything is put.
#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "format/filesystem/formats.h"
#include "format/filesystem/iso_fields.h"
#include "format/filesystem/iso_rewrite.h"

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

/// A text of a descriptor that says nothing: blanks, which are of two bytes in Joliet's.
template <std::size_t Size>
void fill_blank(std::array<Byte, Size>& text, NameForm form) {
  for (std::size_t i = 0; i < Size; ++i)
    text[i] = form == NameForm::plain || i % 2 != 0 ? Byte{' '} : Byte{0};
}

DescriptorHead head_of(DescriptorType type) {
  DescriptorHead head{.type = type};
  std::copy_n(kMark.begin(), head.identifier.size(), head.identifier.begin());
  return head;
}

VolumeDescriptor descriptor(NameForm form, const Timestamp& made) {
  bool wide = form == NameForm::joliet;
  VolumeDescriptor out{.type = wide ? supplementary_descriptor : primary_descriptor,
                       .identifier = head_of(primary_descriptor).identifier};
  fill_blank(out.system, form);
  fill_blank(out.volume, form);
  for (auto text : {&VolumeDescriptor::volume_set, &VolumeDescriptor::publisher, &VolumeDescriptor::preparer,
                    &VolumeDescriptor::application})
    fill_blank(out.*text, form);
  fill_blank(out.files, form);
  constexpr std::string_view kThirdLevel = "%/E";
  if (wide) std::copy(kThirdLevel.begin(), kThirdLevel.end(), out.escape_sequences.begin());
  out.space_size = Place::end;
  out.block_size = kSector;
  out.path_table_size = size_on_disk<PathRow> + 2;  // of the root folder alone
  out.path_table = wide ? joliet_table : table;
  out.big_path_table[3] = static_cast<Byte>(wide ? joliet_big_table : big_table);
  Bytes record = folder_record(wide ? joliet_root : root, kSector, made, folder_flag, kSelf, {});
  std::copy(record.begin(), record.end(), out.root.begin());
  out.created = out.modified = long_date_bytes(made);
  out.expires = out.effective = long_date_bytes({});
  return out;
}

Bytes root_folder(NameForm form, const TreeNode& node) {
  bool wide = form == NameForm::joliet;
  std::uint32_t place = wide ? joliet_root : root;
  Bytes own, above;
  if (!wide) {
    Bytes px = ridge_fields("", node).front();
    above = px;
    own = system_use_field("SP", SharingProtocol{.check = kCheckBytes});
    own.insert(own.end(), px.begin(), px.end());
    constexpr std::string_view kName = "RRIP_1991A";
    Bytes contents = {static_cast<Byte>(kName.size()), 0, 0, 1};
    contents.insert(contents.end(), kName.begin(), kName.end());
    Bytes er = system_use_field("ER", contents);
    own.insert(own.end(), er.begin(), er.end());
  }
  Bytes out = folder_record(place, kSector, node.modified, folder_flag, kSelf, own);
  Bytes second = folder_record(place, kSector, node.modified, folder_flag, kParent, above);
  out.insert(out.end(), second.begin(), second.end());
  return out;
}

SourcePtr empty_disc(const TreeNode& node) {
  Bytes out(end * kSector);
  write_structure(descriptor(NameForm::plain, node.modified), out.data() + primary * kSector);
  write_structure(descriptor(NameForm::joliet, node.modified), out.data() + supplementary * kSector);
  write_structure(head_of(last_descriptor), out.data() + terminator * kSector);
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
