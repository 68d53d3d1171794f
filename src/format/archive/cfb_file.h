#pragma once

#include <string>
#include <vector>

#include "base/time.h"
#include "format/archive/cfb_records.h"
#include "io/source.h"

namespace operculum::cfb {

extern const ByteView kMark;  ///< the first 8 bytes of every compound file

/// An entry of the directory that the tree of names reaches.
struct Node {
  std::string name;        ///< UTF-8; may hold control characters
  std::u16string wide;     ///< the same as stored
  std::size_t parent = 0;  ///< in nodes(); the root is its own
  bool storage = false;    ///< a storage is a folder, all else a stream
  Timestamp created, modified;
  std::uint64_t size = 0;  ///< bytes
  DirectoryEntry record;   ///< as it lies there
};

/// A compound file ([MS-CFB]): a small file system in a file, with sectors, a table of chains, and a second
/// one for short streams.
class CompoundFile {
 public:
  /// Reads all but the streams. What is broken further in is told by troubles(). Throws Malformed.
  explicit CompoundFile(SourcePtr bytes);

  const Header& header() const { return header_; }
  std::uint64_t stated_size() const { return stated_size_; }  ///< up to the last sector in use; bytes
  /// Every storage before what lies in it; the first is the root.
  const std::vector<Node>& nodes() const { return nodes_; }
  const std::vector<std::string>& troubles() const { return troubles_; }

  /// The bytes of a stream. Throws Malformed where its chain is broken.
  SourcePtr open(const Node& node) const;

 private:
  void read_sector_table(ByteView raw);
  void read_directory(std::uint32_t start);
  void read_tree(ByteView directory);
  void read_short_table(std::uint32_t start);
  std::uint64_t offset_of(std::uint32_t sector) const {
    return (std::uint64_t{sector} + 1) << header_.sector_shift;
  }
  std::vector<std::uint32_t> chain(const std::vector<std::uint32_t>& table, std::uint32_t start,
                                   std::uint64_t units, std::string_view what) const;
  std::vector<std::uint32_t> whole_chain(std::uint32_t start, std::string_view what) const;
  SourcePtr sectors(const std::vector<std::uint32_t>& chain, std::uint64_t size) const;

  SourcePtr bytes_;
  Header header_;
  std::uint64_t stated_size_ = 0;
  std::vector<std::uint32_t> table_, short_table_;
  std::vector<Node> nodes_;
  SourcePtr short_sectors_;
  std::vector<std::string> troubles_;
};

}  // namespace operculum::cfb
