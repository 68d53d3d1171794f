#pragma once

#include "format/filesystem/iso_tree.h"
#include "format/filesystem/new_tree.h"

namespace operculum::iso {

/// Makes and changes the rows of one tree.
class RowMaker {
 public:
  /// `exact`: the tree's own names are shown, so none may come out as another one.
  RowMaker(const DiscTree& tree, const RecordReader& reader, bool exact)
      : form_(tree.form), ridge_(tree.ridge), exact_(exact), reader_(reader) {}

  std::unique_ptr<DiscRow> make(const std::string& name, const TreeNode& node,
                                const std::set<Bytes>& taken) const;
  /// Another name; everything else stays.
  void rename(DiscRow& row, const std::string& name, const TreeNode& node,
              const std::set<Bytes>& taken) const;
  /// Takes out what says how a content is packed (zisofs, holes): the new one is not.
  void as_plain_content(DiscRow& row) const;

  NameForm form() const { return form_; }

 private:
  void lay_out(DiscRow& row, ByteView identifier, ByteView foreign, const std::vector<Bytes>& fields) const;

  NameForm form_;
  bool ridge_, exact_;
  const RecordReader& reader_;
};

/// Where data lies: extents of at most 4 GiB, in blocks and bytes.
using DataParts = std::vector<std::pair<std::uint32_t, std::uint32_t>>;
DataParts parts_at(std::uint64_t extent, std::uint64_t size);
DataParts parts_of(const DiscRow& row);

/// Lets a row lead there. True when its records do not lie as they lay.
bool lead_to(DiscRow& row, const DataParts& parts);

}  // namespace operculum::iso
