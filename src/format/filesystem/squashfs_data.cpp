#include "format/filesystem/squashfs_data.h"

#include <algorithm>

#include "io/read_ahead.h"

namespace operculum::squash {
namespace {

bool all_zeros(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](Byte one) { return one == 0; });
}

}  // namespace

DataWriter::DataWriter(const Form& form, std::uint64_t begin, unsigned jobs, SpoolBudget& budget)
    : form_(form), spool_(budget), at_(begin), work_(jobs) {}

void DataWriter::add(const Content& content, StoredFile& out) {
  SourcePtr there = content.source();
  StreamPtr stream = there ? make_source_stream(there) : make_read_ahead(content.stream());
  bool first = true;
  for (;;) {
    Bytes block(form_.super.block_size);
    block.resize(read_fully(*stream, block));
    if (block.empty()) break;
    out.size += block.size();
    bool is_tail = block.size() < form_.super.block_size;
    bool in_fragment = is_tail && !form_.has(no_fragments) && (first || form_.has(always_fragments));
    if (in_fragment) return add_tail(block, out);
    if (all_zeros(block)) {
      std::uint64_t count = block.size();
      work_.report([&out, count] {
        out.sizes.push_back(0);
        out.sparse += count;
      });
    } else {
      submit_block(std::move(block), What::data, [&out](std::uint64_t at, std::uint32_t word) {
        if (out.start == 0) out.start = at;
        out.sizes.push_back(word);
      });
    }
    if (is_tail) break;
    first = false;
  }
}

void DataWriter::add_tail(ByteView bytes, StoredFile& out) {
  if (tails_.size() + bytes.size() > form_.super.block_size) end_fragment();
  out.fragment = fragment_count_;
  out.offset = static_cast<std::uint32_t>(tails_.size());
  tails_.insert(tails_.end(), bytes.begin(), bytes.end());
}

void DataWriter::end_fragment() {
  if (tails_.empty()) return;
  ++fragment_count_;
  submit_block(std::move(tails_), What::fragment, [this](std::uint64_t at, std::uint32_t word) {
    fragments_.push_back({at, word});
  });
  tails_.clear();
}

void DataWriter::submit_block(Bytes plain, What what,
                              std::function<void(std::uint64_t at, std::uint32_t word)> placed) {
  work_.submit([this, what, placed = std::move(placed), plain = std::move(plain)]() -> OrderedWork::Report {
    bool stored = form_.has(what == What::data ? data_stored : fragments_stored);
    auto packed = stored ? std::nullopt : pack_block(form_.codec, plain, form_.packing);
    std::uint32_t word = packed ? static_cast<std::uint32_t>(packed->size())
                                : static_cast<std::uint32_t>(plain.size()) | kDataStored;
    return [this, placed, word, bytes = packed ? *std::move(packed) : plain] {
      placed(at_, word);
      pieces_.push_back({nullptr, spool_.size(), bytes.size()});
      spool_.append(bytes);
      at_ += bytes.size();
    };
  });
}

void DataWriter::keep(const SourcePtr& image, std::uint64_t at, std::uint64_t length,
                      std::function<void(std::uint64_t)> placed) {
  work_.report([this, image, at, length, placed = std::move(placed)] {
    placed(at_);
    pieces_.push_back({image, at, length});
    at_ += length;
  });
}

std::uint32_t DataWriter::keep_fragment(const SourcePtr& image, const FragmentRecord& record) {
  end_fragment();  // numbers are given in the order in which fragments lie
  keep(image, record.start, record.size & ~kDataStored, [this, word = record.size](std::uint64_t at) {
    fragments_.push_back({at, word});
  });
  return fragment_count_++;
}

Assembly DataWriter::finish() {
  end_fragment();
  work_.finish();
  SourcePtr packed = spool_.finish();
  Assembly out;
  for (const Piece& piece : pieces_) out.add(piece.image ? piece.image : packed, piece.at, piece.length);
  return out;
}

}  // namespace operculum::squash
