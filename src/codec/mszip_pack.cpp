#include "codec/mszip_pack.h"

#include <zlib.h>

#include <new>

#include "base/error.h"
#include "base/numbers.h"

namespace operculum {
namespace {

constexpr std::size_t kMark = 2;          // bytes: "CK"
constexpr std::size_t kStoredHeader = 5;  // of a deflate block that is not packed
constexpr int kRawWindow = -15;           // deflate without a header

}  // namespace

MszipEncoder::MszipEncoder(int level, int memory_level) : state_(std::make_unique<z_stream>()) {
  *state_ = {};
  if (deflateInit2(state_.get(), level, Z_DEFLATED, kRawWindow, memory_level, Z_DEFAULT_STRATEGY) != Z_OK)
    throw std::bad_alloc();
}

MszipEncoder::~MszipEncoder() {
  deflateEnd(state_.get());
}

ByteView MszipEncoder::pack_block(ByteView plain) {
  deflateReset(state_.get());
  if (!history_.empty())
    deflateSetDictionary(state_.get(), history_.data(), static_cast<uInt>(history_.size()));
  std::size_t most = kMark + kStoredHeader + plain.size();  // when it is stored
  out_.assign(most, 0);
  out_[0] = 'C';
  out_[1] = 'K';
  state_->next_in = const_cast<Bytef*>(plain.data());  // which the library does not write to
  state_->avail_in = static_cast<uInt>(plain.size());
  state_->next_out = out_.data() + kMark;
  state_->avail_out = static_cast<uInt>(most - kMark);
  if (deflate(state_.get(), Z_FINISH) == Z_STREAM_END) {
    out_.resize(most - state_->avail_out);
  } else {
    out_[kMark] = 1;  // stored, the last block
    store_number(out_.data() + kMark + 1, 2, plain.size());
    store_number(out_.data() + kMark + 3, 2, ~plain.size());
    std::copy(plain.begin(), plain.end(), out_.begin() + kMark + kStoredHeader);
  }
  pass_block(plain);
  return out_;
}

}  // namespace operculum
