#pragma once

#include <string>
#include <vector>

#include "base/time.h"
#include "io/source.h"

namespace operculum::cfb {

constexpr std::uint32_t kNoNode = 0xFFFFFFFF;
constexpr std::size_t kHeader = 512;
extern const ByteView kMark;  ///< the first 8 bytes of every compound file

/// An entry of the directory that the tree of names reaches.
struct Node {
  std::string name;        ///< UTF-8; may hold control characters
  std::u16string wide;     ///< the same as stored
  std::size_t parent = 0;  ///< in nodes(); the root is its own
  bool storage = false;    ///< a storage is a folder, all else a stream
  Bytes class_id;          ///< 16 bytes
  Timestamp created, modified;
  std::uint32_t start = 0;  ///< sector
  std::uint64_t size = 0;   ///< bytes
};

/// A compound file ([MS-CFB]): a small file system in a file, with sectors, a table of chains, and a second
/// one for short streams.
class CompoundFile {
 public:
  /// Reads all but the streams. What is broken further in is told by troubles(). Throws Malformed.
  explicit CompoundFile(SourcePtr bytes);

  unsigned version() const { return version_; }
  std::uint64_t stated_size() const { return stated_size_; }  ///< up to the last sector in use; bytes
  /// Every storage before what lies in it; the first is the root.
  const std::vector<Node>& nodes() const { return nodes_; }
  const std::vector<std::string>& troubles() const { return troubles_; }

  /// The bytes of a stream. Throws Malformed where its chain is broken.
  SourcePtr open(const Node& node) const;

 private:
  void read_sector_table(ByteView header);
  void read_directory(std::uint32_t start);
  void read_tree(ByteView directory);
  void read_short_table(std::uint32_t start);
  std::uint64_t offset_of(std::uint32_t sector) const { return (std::uint64_t{sector} + 1) << sector_shift_; }
  std::vector<std::uint32_t> chain(const std::vector<std::uint32_t>& table, std::uint32_t start,
                                   std::uint64_t units, std::string_view what) const;
  std::vector<std::uint32_t> whole_chain(std::uint32_t start, std::string_view what) const;
  SourcePtr sectors(const std::vector<std::uint32_t>& chain, std::uint64_t size) const;

  SourcePtr bytes_;
  unsigned version_ = 3, sector_shift_ = 9;
  std::uint64_t cutoff_ = 4096, stated_size_ = 0;
  std::vector<std::uint32_t> table_, short_table_;
  std::vector<Node> nodes_;
  SourcePtr short_sectors_;
  std::vector<std::string> troubles_;
};

}  // namespace operculum::cfb
