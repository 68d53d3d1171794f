#include "io/patches.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"

namespace operculum {

void Patches::put(std::uint64_t at, ByteView bytes) {
  while (!bytes.empty()) {
    std::uint64_t block_at = at / kBlock * kBlock;
    auto [found, is_new] = blocks_.try_emplace(block_at);
    if (is_new) {
      found->second = read_up_to(*base_, block_at, kBlock);
      found->second.resize(kBlock);
    }
    auto within = static_cast<std::size_t>(at - block_at);
    std::size_t part = std::min(bytes.size(), found->second.size() - within);
    std::copy_n(bytes.begin(), part, found->second.begin() + static_cast<std::ptrdiff_t>(within));
    at += part;
    bytes = bytes.subspan(part);
  }
}

void Patches::put(std::uint64_t at, SourcePtr source, std::uint64_t from, std::uint64_t length) {
  if (length > 0) runs_[at] = {std::move(source), from, length};
}

void Patches::put_zeros(std::uint64_t at, std::uint64_t length) {
  if (length > 0) runs_[at] = {nullptr, 0, length};
}

Bytes Patches::read(std::uint64_t at, std::size_t length) const {
  Bytes out = read_up_to(*base_, at, length);
  for (std::uint64_t behind = at + out.size(); behind < at + length;
       behind = behind / kBlock * kBlock + kBlock) {
    if (!blocks_.contains(behind / kBlock * kBlock))
      throw CutShort(fmt::format("what is to be changed at offset {}: the file ends before it", behind));
  }
  out.resize(length);
  auto block = blocks_.lower_bound(at / kBlock * kBlock);
  for (; block != blocks_.end() && block->first < at + length; ++block) {
    std::uint64_t begin = std::max(at, block->first), end = std::min(at + length, block->first + kBlock);
    std::copy_n(block->second.begin() + static_cast<std::ptrdiff_t>(begin - block->first), end - begin,
                out.begin() + static_cast<std::ptrdiff_t>(begin - at));
  }
  return out;
}

Assembly Patches::assembly(std::uint64_t size) const {
  struct Piece {
    std::uint64_t at, length;
    const Bytes* bytes;
    const Run* run;
  };
  std::vector<Piece> pieces;
  for (const auto& [at, bytes] : blocks_)
    pieces.push_back({at, std::min<std::uint64_t>(bytes.size(), size - std::min(size, at)), &bytes, nullptr});
  for (const auto& [at, run] : runs_) pieces.push_back({at, run.length, nullptr, &run});
  std::sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) { return a.at < b.at; });
  Assembly out;
  auto fill = [&](std::uint64_t to) {
    std::uint64_t kept_to = std::min(to, base_->size());
    if (out.size() < kept_to) out.add(base_, out.size(), kept_to - out.size());
    if (out.size() < to) out.add_zeros(to - out.size());
  };
  for (const Piece& piece : pieces) {
    if (piece.length == 0) continue;
    if (piece.at < out.size())  // only what is damaged has its parts over each other
      throw Malformed(fmt::format("two parts that change lie over each other at offset {}", piece.at));
    fill(piece.at);
    if (piece.bytes != nullptr) {
      auto end = piece.bytes->begin() + static_cast<std::ptrdiff_t>(piece.length);
      out.add(Bytes(piece.bytes->begin(), end));
    } else if (piece.run->source) {
      out.add(piece.run->source, piece.run->from, piece.length);
    } else {
      out.add_zeros(piece.length);
    }
  }
  fill(size);
  return out;
}

}  // namespace operculum
