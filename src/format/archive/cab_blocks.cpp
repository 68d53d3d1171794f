#include "format/archive/cab_blocks.h"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "base/error.h"
#include "codec/lzx_pack.h"
#include "codec/mszip_pack.h"

namespace operculum::cab {
namespace {

constexpr std::size_t kMostBlocks = UINT16_MAX;

/// Goes through the old blocks, header by header, and through what they hold.
class OldReader {
 public:
  OldReader(const OldBlocks& old, std::size_t reserve)
      : old_(old), reserve_(reserve), at_(old.record.at), plain_(old.open()) {}

  /// The next block; false at the end.
  bool next() {
    if (number_ == old_.record.blocks) return false;
    ++number_;
    Bytes raw = read_exactly(*old_.cabinet, at_, kDataHeader, "cabinet data block");
    auto header = read_structure<DataHeader>(raw.data());
    begin = at_;
    length = kDataHeader + reserve_ + header.packed;
    at_ += length;
    plain.resize(header.size);
    plain.resize(read_fully(*plain_, plain));
    return true;
  }

  Bytes packed() const {
    return read_exactly(*old_.cabinet, begin + kDataHeader + reserve_, length - kDataHeader - reserve_,
                        "cabinet data block");
  }

  std::uint64_t begin = 0, length = 0;  // of the block in the cabinet, with its header
  Bytes plain;

 private:
  const OldBlocks& old_;
  std::size_t reserve_;
  std::uint64_t at_;
  StreamPtr plain_;
  std::size_t number_ = 0;
};

class FolderPacker {
 public:
  FolderPacker(const BlockForm& form, SpoolBudget& budget)
      : form_(form), mszip_(form.level, form.memory_level), out_(budget) {
    if (codec() == lzx_codec) lzx_ = std::make_unique<LzxEncoder>(form.method >> 8 & 0x1F);
    if (codec() != stored_codec && codec() != mszip_codec && codec() != lzx_codec)
      throw Unsupported(fmt::format("packing a cabinet's folder with {}", method_name(form.method)));
  }

  PackedFolder run(Stream& plain, const OldBlocks* old) {
    if (codec() == lzx_codec) {
      Bytes block(LzxEncoder::kBlock);
      while (std::size_t count = read_fully(plain, block)) add_frames(ByteView(block).first(count));
    } else {
      std::optional<OldReader> before;
      if (old != nullptr) before.emplace(*old, form_.reserve);
      add_blocks(plain, before ? &*before : nullptr);
    }
    return {assembled(old), static_cast<std::uint16_t>(blocks_)};
  }

 private:
  std::uint16_t codec() const { return form_.method & 0xF; }

  void add_frames(ByteView plain) {
    std::size_t at = 0;
    for (const Bytes& frame : lzx_->pack(plain)) {
      std::size_t size = std::min(LzxEncoder::kFrame, plain.size() - at);
      add(frame, size);
      at += size;
    }
  }

  /// A block may look back into the one in front: it is the same when both are.
  void add_blocks(Stream& plain, OldReader* before) {
    Bytes block(kBlock);
    bool same_front = true;
    while (std::size_t count = read_fully(plain, block)) {
      ByteView now = ByteView(block).first(count);
      if (before != nullptr && !before->next()) before = nullptr;
      bool same =
          before != nullptr && std::equal(now.begin(), now.end(), before->plain.begin(), before->plain.end());
      if (same && same_front) {
        count_block();
        pieces_.push_back({true, before->begin, before->length});
        mszip_.pass_block(now);
      } else {
        add(codec() == stored_codec ? now : mszip_.pack_block(now), count);
      }
      same_front = same;
    }
  }

  void count_block() {
    if (++blocks_ > kMostBlocks) throw Unsupported("a cabinet's folder of more than 2 GiB");
  }

  void add(ByteView packed, std::size_t size) {
    count_block();
    DataHeader header;
    header.packed = static_cast<std::uint16_t>(packed.size());
    header.size = static_cast<std::uint16_t>(size);
    Bytes front;
    append_structure(front, header);
    front.resize(kDataHeader + form_.reserve);
    if (form_.sums) {
      header.sum = checksum(ByteView(front).subspan(sizeof header.sum), checksum(packed, 0));
      write_structure(header, front.data());
    }
    pieces_.push_back({false, out_.size(), front.size() + packed.size()});
    out_.append(front);
    out_.append(packed);
  }

  Assembly assembled(const OldBlocks* old) {
    SourcePtr made = out_.finish();
    Assembly all;
    for (const Piece& piece : pieces_) all.add(piece.kept ? old->cabinet : made, piece.at, piece.length);
    return all;
  }

  /// A block with its header: in the old cabinet, or among those that were packed.
  struct Piece {
    bool kept;
    std::uint64_t at, length;
  };

  BlockForm form_;
  MszipEncoder mszip_;
  std::unique_ptr<LzxEncoder> lzx_;
  SpoolWriter out_;
  std::vector<Piece> pieces_;
  std::size_t blocks_ = 0;
};

/// Plain and packed blocks of a folder's begin.
using Samples = std::vector<std::pair<Bytes, Bytes>>;

/// Whether our LZX encoder makes these frames.
bool comes_out(const Samples& samples, std::uint16_t method) {
  Bytes plain;
  for (const auto& [block, packed] : samples) plain.insert(plain.end(), block.begin(), block.end());
  LzxEncoder encoder(method >> 8 & 0x1F);
  std::vector<Bytes> frames = encoder.pack(plain);
  return std::equal(frames.begin(), frames.end(), samples.begin(), samples.end(),
                    [](const Bytes& made, const auto& one) { return made == one.second; });
}

}  // namespace

PackedFolder pack_folder(Stream& plain, const BlockForm& form, const OldBlocks* old, SpoolBudget& budget) {
  return FolderPacker(form, budget).run(plain, old);
}

std::optional<BlockForm> find_form(const OldBlocks& old, BlockForm form) {
  constexpr int kLevels[] = {6, 9, 8, 7, 5, 4, 3, 2, 1}, kMemoryLevels[] = {8, 9};
  constexpr std::size_t kTried = 4;  // blocks
  OldReader before(old, form.reserve);
  Samples samples;
  while (samples.size() < kTried && before.next()) samples.emplace_back(before.plain, before.packed());
  if ((form.method & 0xF) == lzx_codec)
    return comes_out(samples, form.method) ? std::optional(form) : std::nullopt;
  if ((form.method & 0xF) == stored_codec) return form;
  for (int memory : kMemoryLevels) {
    for (int level : kLevels) {
      MszipEncoder encoder(level, memory);
      bool fits = std::all_of(samples.begin(), samples.end(), [&](const auto& one) {
        ByteView made = encoder.pack_block(one.first);
        return std::equal(made.begin(), made.end(), one.second.begin(), one.second.end());
      });
      form.level = level;
      form.memory_level = memory;
      if (fits) return form;
    }
  }
  return std::nullopt;
}

}  // namespace operculum::cab
