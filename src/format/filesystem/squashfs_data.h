#pragma once

#include <map>

#include "base/ordered_work.h"
#include "format/filesystem/squashfs_form.h"
#include "io/assembly.h"
#include "io/spool.h"

namespace operculum::squash {

/// Where a file's bytes lie in an image, for its inode.
struct StoredFile {
  std::uint64_t start = 0, size = 0, sparse = 0;  ///< bytes
  std::vector<std::uint32_t> sizes;               ///< the words of its blocks
  std::uint32_t fragment = kNoFragment, offset = 0;
};

/// Writes the data of an image: blocks of files and fragments, one behind another, packed on several threads.
/// What is kept lies there as it lay.
class DataWriter {
 public:
  /// `begin`: where the data begins in the image, in bytes. All must outlive the writer.
  DataWriter(const Form& form, std::uint64_t begin, unsigned jobs, SpoolBudget& budget);

  /// Packs a file's content; `out` is complete after finish(), and must stay where it is until then.
  void add(const Content& content, StoredFile& out);
  /// The end of a file, less than a block: goes into a fragment with others.
  void add_tail(ByteView bytes, StoredFile& out);
  /// `length` bytes of an older image as they lie there; `placed` gets their new place.
  void keep(const SourcePtr& image, std::uint64_t at, std::uint64_t length,
            std::function<void(std::uint64_t)> placed);
  /// A fragment of an older image; returns its new number.
  std::uint32_t keep_fragment(const SourcePtr& image, const FragmentRecord& record);

  /// Everything, in order; once.
  Assembly finish();
  const std::vector<FragmentRecord>& fragments() const { return fragments_; }  ///< after finish()

 private:
  struct Piece {
    SourcePtr image;  // null: of the spool
    std::uint64_t at, length;
  };
  enum class What { data, fragment };

  std::uint32_t write(const std::optional<Bytes>& packed, ByteView plain);
  void submit_block(Bytes plain, What what, std::function<void(std::uint64_t at, std::uint32_t word)> placed);
  void end_fragment();

  const Form& form_;
  SpoolWriter spool_;
  std::uint64_t at_;
  std::vector<Piece> pieces_;
  std::vector<FragmentRecord> fragments_;  // touched by reports alone, which come in order
  std::uint32_t fragment_count_ = 0;       // of those that were given a number
  Bytes tails_;                            // of the fragment that is being filled
  OrderedWork work_;
};

}  // namespace operculum::squash
