#include "format/volume/dm_snapshot.h"

#include <fmt/format.h>

#include <map>

#include "base/error.h"
#include "base/structure_fields.h"
#include "io/mapped_source.h"

namespace operculum {
namespace {

constexpr std::uint32_t kMagic = 0x70416E53;  // "SnAp"
constexpr std::uint64_t kSector = 512;

/// struct disk_header; chunks are counted in sectors.
struct StoreHeader {
  std::uint32_t magic = 0, valid = 0, version = 0, chunk_size = 0;
  static constexpr auto layout =
      little_endian(field("magic", &StoreHeader::magic), field("valid", &StoreHeader::valid),
                    field("version", &StoreHeader::version), field("chunk_size", &StoreHeader::chunk_size));
};
/// struct disk_exception.
struct Exception {
  std::uint64_t old_chunk = 0, new_chunk = 0;
  static constexpr auto layout =
      little_endian(field("old_chunk", &Exception::old_chunk), field("new_chunk", &Exception::new_chunk));
};
constexpr std::size_t kException = size_on_disk<Exception>;

class SnapshotSource final : public MappedSource {
 public:
  SnapshotSource(const SourcePtr& origin, const SourcePtr& store)
      : MappedSource(store, origin->size(), origin) {
    auto head = read_structure<StoreHeader>(
        read_exactly(*store, 0, size_on_disk<StoreHeader>, "snapshot store").data());
    if (head.magic != kMagic) throw Malformed("snapshot store: the magic is missing");
    if (head.valid == 0)
      throw Malformed("the snapshot is not valid: its store was too small for what was changed");
    if (head.version != 1) throw Unsupported(fmt::format("snapshot stores of version {}", head.version));
    chunk_ = head.chunk_size * kSector;
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
        auto [old_chunk, new_chunk] = structure_at<Exception>(f, at);
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
