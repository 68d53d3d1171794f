// Chunked xz ("pbzx"): the payload of installer packages; chunks of 16 MiB, each an xz file of its own or
// plain.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/structure.h"
#include "codec/block.h"
#include "container/record_fields.h"
#include "format/stream/formats.h"
#include "io/block_content.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "pbzx";
constexpr std::uint64_t kMostChunk = 64 << 20;

/// What the file begins with: the mark, and what a full chunk unpacks to.
struct FrontRecord {
  std::array<Byte, 4> magic{};
  std::uint64_t chunk_size = 0;
  static constexpr auto layout =
      big_endian(field("magic", &FrontRecord::magic), field("chunk size", &FrontRecord::chunk_size));
};
/// In front of each chunk. One that is not smaller than what it unpacks to is plain.
struct ChunkRecord {
  std::uint64_t unpacked_size = 0, packed_size = 0;
  static constexpr auto layout = big_endian(field("unpacked size", &ChunkRecord::unpacked_size),
                                            field("packed size", &ChunkRecord::packed_size));
};
constexpr std::size_t kFront = size_on_disk<FrontRecord>, kChunkHeader = size_on_disk<ChunkRecord>;

enum Tag : std::uint32_t { packed_chunk, plain_chunk };

/// What is there of a file that is cut short, then the error.
class CutStream final : public Stream {
 public:
  explicit CutStream(StreamPtr inner) : inner_(std::move(inner)) {}
  std::size_t read(ByteSpan out) override {
    if (std::size_t count = inner_->read(out)) return count;
    throw CutShort("the rest of its chunks is missing or damaged");
  }

 private:
  StreamPtr inner_;
};

class ChunkedXzContainer final : public Container {
 public:
  ChunkedXzContainer(SourcePtr bytes, const std::string& name) : bytes_(std::move(bytes)) {
    std::uint64_t unpacked = read_headers();
    Entry entry;
    entry.path = name.ends_with(".pbzx") ? name.substr(0, name.size() - 5) : name.empty() ? "content" : name;
    if (!cut_) entry.size = unpacked;
    entry.stored_size = bytes_->size();
    entry.method = "xz";
    entries_.push_back(std::move(entry));
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t) override {
    auto decode = [bytes = bytes_](const Block& block, ByteSpan out) {
      Bytes packed = read_exactly(*bytes, block.stored_offset, block.stored_size, "chunk");
      if (block.tag == plain_chunk) {
        std::copy(packed.begin(), packed.end(), out.begin());
      } else if (decode_block(BlockCodec::xz, packed, out) != out.size()) {
        throw Malformed(
            fmt::format("the chunk at offset {} gives fewer bytes than it states", block.stored_offset));
      }
    };
    ContentPtr whole = make_block_content(blocks_, decode);
    if (!cut_) return whole;
    return make_content([whole]() -> StreamPtr { return std::make_unique<CutStream>(whole->stream()); });
  }
  Facts facts() override { return {{"chunks", std::to_string(blocks_.size())}}; }

 private:
  /// Finds all chunks; returns how many bytes they unpack to.
  std::uint64_t read_headers() {
    std::uint64_t at = kFront, unpacked = 0, size = bytes_->size();
    Bytes front = read_exactly(*bytes_, 0, kFront, "chunked xz header");
    std::uint64_t usual = read_structure<FrontRecord>(front.data()).chunk_size;
    while (at < size) {
      Bytes header = read_up_to(*bytes_, at, kChunkHeader);
      if (header.size() < kChunkHeader) {
        cut("it ends within the header of a chunk; the file is cut short");
        return unpacked;
      }
      auto [plain, packed] = read_structure<ChunkRecord>(header.data());
      at += kChunkHeader;
      if (plain == 0 || plain > kMostChunk || packed == 0 || packed > kMostChunk) {
        cut(fmt::format("the chunk at offset {} states {} bytes in {}; the file is damaged from here on", at,
                        plain, packed));
        return unpacked;
      }
      if (packed > size - at) {
        cut(fmt::format("the last chunk has {} of {} bytes; the file is cut short", size - at, packed));
        return unpacked;
      }
      blocks_.push_back({unpacked, plain, at, packed, packed == plain ? plain_chunk : packed_chunk});
      unpacked += plain;
      at += packed;
    }
    if (blocks_.empty()) {
      cut("it ends in front of its first chunk; the file is cut short");
    } else if (blocks_.back().unpacked_size == usual) {
      add_finding(Finding::Level::note,
                  "the last chunk is a full one: the file may be cut short between two");
    }
    return unpacked;
  }

  void cut(const std::string& why) {
    add_finding(Finding::Level::fault, why);
    cut_ = true;
  }

  SourcePtr bytes_;
  std::vector<Block> blocks_;
  bool cut_ = false;
  std::vector<Entry> entries_;
};

Match recognise_chunked_xz(Probe& probe) {
  ByteView head = probe.head(kFront);
  return head.size() == kFront && starts_with(head, kMark) ? Match::front : Match::none;
}

ContainerPtr open_chunked_xz(const Input& input, OpenContext& context) {
  return std::make_shared<ChunkedXzContainer>(random_access(*input.content, context.spool), input.name);
}

}  // namespace

Format chunked_xz_format() {
  return {.id = "chunked-xz",
          .name = "chunked xz file",
          .family = "stream",
          .specification = "none published; as commonly documented",
          .reads = "xz and plain chunks; chunks are found without decoding those in front",
          .lacks = "",
          .suffixes = {".pbzx"},
          .single_stream = true,
          .forward = true,
          .recognise = recognise_chunked_xz,
          .open = open_chunked_xz,
          .records = {record_at<FrontRecord>("front", 0)}};
}

}  // namespace operculum
