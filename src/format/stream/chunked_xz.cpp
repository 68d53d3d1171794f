// Chunked xz ("pbzx"): the payload of installer packages; chunks of 16 MiB, each an xz file of its own or
// plain.
#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/fields.h"
#include "codec/block.h"
#include "format/formats.h"
#include "io/block_content.h"

namespace operculum {
namespace {

constexpr std::string_view kMark = "pbzx";
constexpr std::uint64_t kFront = 12, kChunkHeader = 16, kMostChunk = 64 << 20;
enum Tag : std::uint32_t { kPacked, kPlain };

class ChunkedXzContainer final : public Container {
 public:
  ChunkedXzContainer(SourcePtr bytes, const std::string& name) : bytes_(std::move(bytes)) {
    std::uint64_t at = kFront, unpacked = 0, size = bytes_->size();
    while (at < size) {
      Bytes header = read_up_to(*bytes_, at, kChunkHeader);
      if (header.size() < kChunkHeader) {
        add_finding(Finding::Level::fault, "it ends within the header of a chunk; the file is cut short");
        break;
      }
      BigFields f(header, "chunk header", at);
      std::uint64_t plain = f.u64(0), packed = f.u64(8);
      at += kChunkHeader;
      if (plain == 0 || plain > kMostChunk || packed > kMostChunk) {
        add_finding(
            Finding::Level::fault,
            fmt::format("the chunk at offset {} states {} bytes in {}; the file is damaged from here on", at,
                        plain, packed));
        break;
      }
      if (packed > size - at) {
        add_finding(
            Finding::Level::fault,
            fmt::format("the last chunk has {} of {} bytes; the file is cut short", size - at, packed));
        break;
      }
      blocks_.push_back({unpacked, plain, at, packed, packed == plain ? kPlain : kPacked});
      unpacked += plain;
      at += packed;
    }
    Entry entry;
    entry.path = name.ends_with(".pbzx") ? name.substr(0, name.size() - 5) : name.empty() ? "content" : name;
    entry.size = unpacked;
    entry.stored_size = size;
    entry.method = "xz";
    entries_.push_back(std::move(entry));
  }

  std::span<const Entry> entries() override { return entries_; }
  ContentPtr content(std::size_t) override {
    return make_block_content(blocks_, [bytes = bytes_](const Block& block, ByteSpan out) {
      Bytes packed = read_exactly(*bytes, block.stored_offset, block.stored_size, "chunk");
      if (block.tag == kPlain) {
        std::copy(packed.begin(), packed.end(), out.begin());
      } else if (decode_block(BlockCodec::xz, packed, out) != out.size()) {
        throw Malformed(
            fmt::format("the chunk at offset {} gives fewer bytes than it states", block.stored_offset));
      }
    });
  }
  std::vector<std::pair<std::string, std::string>> facts() override {
    return {{"chunks", std::to_string(blocks_.size())}};
  }

 private:
  SourcePtr bytes_;
  std::vector<Block> blocks_;
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
          .recognise = recognise_chunked_xz,
          .open = open_chunked_xz};
}

}  // namespace operculum
