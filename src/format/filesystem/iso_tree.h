#pragma once

#include <memory>

#include "format/filesystem/iso_names.h"
#include "format/filesystem/iso_volume.h"

namespace operculum {
struct TreeNode;
}

namespace operculum::iso {

struct DiscFolder;

/// A file or folder as its records in one of a disc's trees tell it.
struct DiscRow {
  std::vector<Bytes> records;          ///< several for a file of several extents
  std::vector<std::uint64_t> at;       ///< where each lies in the image
  Record first;                        ///< the first of them
  std::string name;                    ///< as it is shown
  std::uint64_t size = 0;              ///< of the data of all, in bytes
  std::unique_ptr<DiscFolder> folder;  ///< of a folder, what is in it
  DiscRow* twin = nullptr;             ///< the same in the other tree
  const TreeNode* node = nullptr;      ///< what it is to be
  Bytes continuation;                  ///< what of the system use fields of a new record does not fit into it
  std::size_t continuation_at = 0;     ///< where the record has the field that leads there

  ByteView identifier() const { return first.raw_name; }
};

/// A folder, and where its records lie.
struct DiscFolder {
  std::uint64_t extent = 0, size = 0;  ///< blocks, bytes; 0: it has no place yet
  Bytes self, parent;                  ///< its own two records
  std::vector<std::unique_ptr<DiscRow>> rows;
  DiscFolder* above = nullptr;
  bool changed = false;  ///< records came, went or are other ones: it is written anew
};

/// One of the trees of a disc.
struct DiscTree {
  NameForm form = NameForm::plain;
  bool ridge = false;  ///< Rock Ridge is kept in it
  std::uint64_t descriptor_at = 0;
  DiscFolder root;
};

/// Reads a whole tree. `name_of` gives the name of a record as it is shown. Throws Malformed where it is
/// damaged, Unsupported for what is not written again.
class TreeLoader {
 public:
  using NameOf = std::function<std::string(const Record&)>;
  TreeLoader(const Source& image, const RecordReader& reader, bool ridge, NameOf name_of)
      : image_(image), reader_(reader), ridge_(ridge), name_of_(std::move(name_of)) {}
  void load(DiscFolder& folder, std::uint64_t extent, std::uint64_t size);

 private:
  void load_rows(DiscFolder& folder, ByteView sector, std::uint64_t at);

  const Source& image_;
  const RecordReader& reader_;
  bool ridge_;
  NameOf name_of_;
  std::set<std::uint64_t> met_;
  bool goes_on_ = false;
};

/// Finds out which rows of two trees are the same thing: by name, by where the data lies, and for folders by
/// what is in them.
void pair_trees(DiscFolder& a, DiscFolder& b);

/// Calls `visit(folder)` for a folder and all beneath it, those above first.
template <typename Visit>
void each_folder(DiscFolder& folder, Visit visit) {
  visit(folder);
  for (auto& row : folder.rows) {
    if (row->folder) each_folder(*row->folder, visit);
  }
}

/// What the records of a folder take, in bytes: no record crosses the end of a sector.
std::uint64_t length_of(const DiscFolder& folder);
/// The records of a folder, filled up to its size.
Bytes bytes_of(const DiscFolder& folder);
/// The path table of a tree (ECMA-119, 9.4), with numbers in one byte order.
Bytes path_table_of(const DiscTree& tree, bool big_endian);

}  // namespace operculum::iso
