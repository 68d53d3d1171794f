#include "format/volume/dm_snapshot.h"

#include <fmt/format.h>

#include <map>

#include "base/error.h"
#include "base/fields.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic = 0x70416E53;  // "SnAp"
constexpr std::size_t kHead = 16, kException = 16;
constexpr std::uint64_t kSector = 512;

class SnapshotSource final : public MappedSource {
 public:
  SnapshotSource(const SourcePtr& origin, const SourcePtr& store)
      : MappedSource(store, origin->size(), origin) {
    Bytes head = read_exactly(*store, 0, kHead, "snapshot store");
    LittleFields f(head, "snapshot store");
    if (f.u32(0) != kMagic) throw Malformed("snapshot store: the magic is missing");
    if (f.u32(4) == 0)
      throw Malformed("the snapshot is not valid: its store was too small for what was changed");
    if (f.u32(8) != 1) throw Unsupported(fmt::format("snapshot stores of version {}", f.u32(8)));
    chunk_ = f.u32(12) * kSector;
    if (chunk_ == 0 || chunk_ > (std::uint64_t{1} << 30) || (chunk_ & (chunk_ - 1)) != 0)
      throw Malformed(fmt::format("snapshot store: chunks of {} bytes are not possible", chunk_));
    read_exceptions(*store);
  }

 protected:
  MappedRun locate(std::uint64_t offset) const override {
    std::uint64_t chunk = offset / chunk_, within = offset % chunk_;
    auto next = exceptions_.lower_bound(chunk);
    if (next == exceptions_.end()) return {MappedRun::From::parent, size() - offset};
    if (next->first > chunk) return {MappedRun::From::parent, (next->first - chunk) * chunk_ - within};
    return {MappedRun::From::stored, chunk_ - within, next->second * chunk_ + within};
  }

 private:
  /// Behind the head's chunk: a chunk of exceptions, the chunks that they are about, and so on; the list ends
  /// with a zero.
  void read_exceptions(const Source& store) {
    const std::uint64_t in_area = chunk_ / kException, chunks = store.size() / chunk_;
    for (std::uint64_t area = 1; area < chunks; area += in_area + 1) {
      Bytes raw = read_exactly(store, area * chunk_, chunk_, "snapshot exceptions");
      LittleFields f(raw, "snapshot exceptions", area * chunk_);
      for (std::size_t at = 0; at < raw.size(); at += kException) {
        std::uint64_t old_chunk = f.u64(at), new_chunk = f.u64(at + 8);
        if (new_chunk == 0) return;
        if (new_chunk >= chunks)
          throw Malformed(
              fmt::format("snapshot exceptions at offset {}: chunk {} is not one of the store's {}",
                          area * chunk_ + at, new_chunk, chunks));
        exceptions_[old_chunk] = new_chunk;
      }
    }
  }

  std::uint64_t chunk_ = 0;
  std::map<std::uint64_t, std::uint64_t> exceptions_;  // chunk of the origin: chunk of the store
};

}  // namespace

SourcePtr make_dm_snapshot(const SourcePtr& origin, const SourcePtr& store) {
  return std::make_shared<SnapshotSource>(origin, store);
}

}  // namespace operculum
