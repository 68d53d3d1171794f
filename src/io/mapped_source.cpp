#include "io/mapped_source.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/error.h"

namespace operculum {

std::size_t MappedSource::read_at(std::uint64_t offset, ByteSpan out) const {
  if (offset >= size_) return 0;
  out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size_ - offset)));
  std::size_t done = 0;
  while (done < out.size()) {
    MappedRun run = locate(offset + done);
    if (run.length == 0)
      throw Malformed(fmt::format("the image's map stands still at offset {}", offset + done));
    auto count = static_cast<std::size_t>(std::min<std::uint64_t>(run.length, out.size() - done));
    ByteSpan part = out.subspan(done, count);
    std::size_t got = count;
    switch (run.from) {
      case MappedRun::From::stored:
        got = whole_->read_at(run.at, part);
        if (got < count) {
          throw CutShort(
              fmt::format("the image's block at offset {} ends after {} of {} bytes; the file is cut short",
                          run.at, got, count));
        }
        break;
      case MappedRun::From::packed: {
        BytesPtr block = unpacked_.get(run.at, [&] { return unpack(run.at); });
        if (block->empty()) throw Malformed("a compressed block of the image is empty");
        std::size_t within = run.within % block->size();
        got = std::min<std::size_t>(count, block->size() - within);
        std::memcpy(part.data(), block->data() + within, got);
        break;
      }
      case MappedRun::From::parent:
        got = parent_ ? parent_->read_at(offset + done, part) : 0;
        std::fill(part.begin() + static_cast<std::ptrdiff_t>(got), part.end(), Byte{0});
        got = count;
        break;
      case MappedRun::From::zeros:
        std::fill(part.begin(), part.end(), Byte{0});
        break;
    }
    done += got;
  }
  return done;
}

std::uint64_t MappedSource::hole_at(std::uint64_t offset) const {
  std::uint64_t at = offset;
  while (at < size_) {
    MappedRun run = locate(at);
    std::uint64_t hole = 0;
    switch (run.from) {
      case MappedRun::From::stored:
        hole = whole_->hole_at(run.at);
        break;
      case MappedRun::From::packed:
        break;
      case MappedRun::From::parent:
        hole = parent_ && at < parent_->size() ? parent_->hole_at(at) : run.length;
        break;
      case MappedRun::From::zeros:
        hole = run.length;
        break;
    }
    std::uint64_t step = std::min({hole, run.length, size_ - at});
    at += step;
    if (step == 0 || hole < run.length) break;
  }
  return at - std::min(at, offset);
}

std::optional<SourceRun> MappedSource::origin_at(std::uint64_t offset) const {
  if (offset >= size_) return std::nullopt;
  MappedRun run = locate(offset);
  if (run.from != MappedRun::From::stored || run.length == 0) return std::nullopt;
  return SourceRun{whole_.get(), run.at, std::min(run.length, size_ - offset)};
}

Bytes MappedSource::unpack(std::uint64_t) const {
  throw Malformed("the image has no compressed blocks, but its map names one");
}

}  // namespace operculum
