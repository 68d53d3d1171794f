#include "format/archive/cab_folder.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/sum_text.h"
#include "base/text.h"
#include "codec/lzx.h"
#include "codec/mszip.h"
#include "codec/quantum.h"
#include "io/input_buffer.h"

namespace operculum::cab {
namespace {

/// Decodes the blocks of a folder in order; the view is valid until the next call.
class BlockDecoder {
 public:
  virtual ~BlockDecoder() = default;
  virtual ByteView decode(ByteView packed, std::size_t size) = 0;
};

class StoredBlocks final : public BlockDecoder {
 public:
  ByteView decode(ByteView packed, std::size_t size) override {
    if (packed.size() != size)
      throw Malformed(fmt::format("a stored block of {} bytes that states {}", packed.size(), size));
    return packed;
  }
};

class MszipBlocks final : public BlockDecoder {
 public:
  ByteView decode(ByteView packed, std::size_t size) override { return decoder_.decode_block(packed, size); }

 private:
  MszipDecoder decoder_;
};

template <typename Decoder>
class FrameBlocks final : public BlockDecoder {
 public:
  explicit FrameBlocks(unsigned window_bits) : decoder_(window_bits) {}
  ByteView decode(ByteView packed, std::size_t size) override { return decoder_.decode_frame(packed, size); }

 private:
  Decoder decoder_;
};

struct Method {
  std::string_view name;
  std::unique_ptr<BlockDecoder> (*make)(unsigned window_bits);
};

/// By the low four bits of a folder's method.
constexpr Method kMethods[] = {
    {"stored", [](unsigned) -> std::unique_ptr<BlockDecoder> { return std::make_unique<StoredBlocks>(); }},
    {"mszip", [](unsigned) -> std::unique_ptr<BlockDecoder> { return std::make_unique<MszipBlocks>(); }},
    {"quantum",
     [](unsigned bits) -> std::unique_ptr<BlockDecoder> {
       return std::make_unique<FrameBlocks<QuantumDecoder>>(bits);
     }},
    {"lzx",
     [](unsigned bits) -> std::unique_ptr<BlockDecoder> {
       return std::make_unique<FrameBlocks<LzxDecoder>>(bits);
     }},
};

const Method* find_method(std::uint16_t method) {
  std::size_t index = method & 0xF;
  return index < std::size(kMethods) ? &kMethods[index] : nullptr;
}

class FolderStream final : public Stream {
 public:
  FolderStream(std::shared_ptr<const Folder> folder, std::unique_ptr<BlockDecoder> decoder)
      : folder_(std::move(folder)), decoder_(std::move(decoder)) {
    begin_piece();
  }

  std::size_t read(ByteSpan out) override {
    while (ready_.empty()) {
      if (!next_block()) return 0;
    }
    std::size_t count = std::min(out.size(), ready_.size());
    std::copy_n(ready_.begin(), count, out.begin());
    ready_ = ready_.subspan(count);
    return count;
  }

 private:
  const Cabinet& cabinet() const { return *folder_->pieces[piece_].cabinet; }

  void begin_piece() {
    const FolderPiece& piece = folder_->pieces[piece_];
    input_ = std::make_unique<InputBuffer>(make_source_stream(piece.cabinet->bytes, piece.record.at));
    left_ = piece.record.blocks;
    block_ = pending_ = 0;
  }

  bool next_piece() {
    if (piece_ + 1 >= folder_->pieces.size()) return false;
    ++piece_;
    begin_piece();
    return true;
  }

  /// A block's bytes, the header in front of them, borrowed from the input until it is consumed.
  DataHeader look_at_block(ByteView& data) {
    const std::size_t front = kDataHeader + cabinet().data_reserve;
    ByteView view = input_->ensure(front);
    if (view.size() < front) fail_cut();
    auto header = read_structure<DataHeader>(view.data());
    view = input_->ensure(front + header.packed);
    if (view.size() < front + header.packed) fail_cut();
    data = view.subspan(front, header.packed);
    if (header.sum != 0) check_sum(view.first(front), data, header.sum);
    return header;
  }

  void check_sum(ByteView front, ByteView data, std::uint32_t stored) const {
    std::uint32_t of_data = checksum(data, 0);
    // The specification counts the reserved bytes in; some writers do not.
    std::uint32_t own = checksum(front.subspan(4, 4), of_data);
    if (own == stored || checksum(front.subspan(4), of_data) == stored) return;
    throw Malformed(fmt::format("{} does not fit its checksum{}; the cabinet is damaged", where(),
                                told_sums(stored, own)));
  }

  void pass_block(std::size_t packed) {
    input_->consume(kDataHeader + cabinet().data_reserve + packed);
    --left_;
    ++block_;
  }

  bool next_block() {
    while (left_ == 0) {
      if (next_piece()) continue;
      if (folder_->missing_rest.empty()) return false;
      throw CutShort(
          fmt::format("it goes on in the cabinet \"{}\", which is not there", escape(folder_->missing_rest)));
    }
    if (pending_ != 0) {
      input_->consume(pending_);
      pending_ = 0;
    }
    ByteView data;
    DataHeader header = look_at_block(data);
    if (header.size == 0 && left_ == 1) return split_block(data);
    decode(data, header.size);
    // What is ready may lie in the input's buffer: it is passed over when the next block is wanted.
    pending_ = kDataHeader + cabinet().data_reserve + header.packed;
    --left_;
    ++block_;
    return true;
  }

  /// A block whose data goes on in the next cabinet.
  bool split_block(ByteView front) {
    joined_.assign(front.begin(), front.end());
    pass_block(front.size());
    if (!next_piece()) return next_block();  // which says what is missing
    if (left_ == 0) throw Malformed("the rest of a block that runs across two cabinets is missing");
    ByteView data;
    DataHeader header = look_at_block(data);
    joined_.insert(joined_.end(), data.begin(), data.end());
    pass_block(header.packed);
    decode(joined_, header.size);
    return true;
  }

  void decode(ByteView packed, std::size_t size) {
    if (size > kBlock) throw Malformed(fmt::format("{} states {} bytes", where(), size));
    try {
      ready_ = decoder_->decode(packed, size);
    } catch (const Malformed& error) {
      throw Malformed(fmt::format("{}: {}", where(), error.what()));
    }
  }

  std::string where() const {
    return fmt::format("data block {} of the folder at offset {} of \"{}\"", block_ + 1,
                       folder_->pieces[piece_].record.at, escape(cabinet().name));
  }

  [[noreturn]] void fail_cut() const {
    throw CutShort(fmt::format("{} is not all there; the cabinet is cut short", where()));
  }

  std::shared_ptr<const Folder> folder_;
  std::unique_ptr<BlockDecoder> decoder_;
  std::unique_ptr<InputBuffer> input_;
  std::size_t piece_ = 0, left_ = 0, block_ = 0;
  std::size_t pending_ = 0;  // bytes of the block before that are still to be passed over
  Bytes joined_;
  ByteView ready_;
};

}  // namespace

std::string_view method_name(std::uint16_t method) {
  const Method* known = find_method(method);
  return known != nullptr ? known->name : "unknown";
}

bool has_sums(const Folder& folder) {
  const FolderPiece& first = folder.pieces.front();
  Bytes header = read_up_to(*first.cabinet->bytes, first.record.at, kDataHeader);
  return header.size() == kDataHeader && load_little<std::uint32_t>(header.data()) != 0;
}

StreamPtr open_folder(std::shared_ptr<const Folder> folder) {
  if (!folder->missing_front.empty()) {
    throw CutShort(
        fmt::format("it begins in the cabinet \"{}\", which is not there", escape(folder->missing_front)));
  }
  std::uint16_t kind = folder->method();
  const Method* method = find_method(kind);
  if (method == nullptr) throw Unsupported(fmt::format("cabinet compression of type {}", kind & 0xF));
  return std::make_unique<FolderStream>(std::move(folder), method->make(kind >> 8 & 0x1F));
}

}  // namespace operculum::cab
