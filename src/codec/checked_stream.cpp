#include <fmt/format.h>

#include "base/background_sum.h"
#include "base/checksum.h"
#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "codec/codec.h"

namespace operculum {
namespace {

class CheckedStream final : public Stream {
 public:
  CheckedStream(StreamPtr inner, const Expected& expected) : inner_(std::move(inner)), expected_(expected) {
    if (const SumKind* kind = find_sum(expected.sum)) sum_ = make_background_sum(kind->make({}));
  }

  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    if (count == 0) {
      check_end();
      return 0;
    }
    if (expected_.crc32) crc_ = crc32(crc_, out.first(count));
    if (sum_) sum_->add(out.first(count));
    done_ += count;
    if (expected_.size && done_ > *expected_.size) {
      throw Malformed(
          fmt::format("the data is longer than the {} bytes stated; it is damaged", *expected_.size));
    }
    return count;
  }

  std::uint64_t skip_hole() override {
    if (!expected_.crc32 && !sum_) {
      std::uint64_t hole = inner_->skip_hole();
      done_ += hole;
      return hole;
    }
    return 0;  // the checksum is one over the zeros, too
  }

 private:
  void check_end() {
    if (expected_.size && done_ != *expected_.size) {
      throw Malformed(fmt::format("the data ends after {} of {} bytes; it is damaged or cut short", done_,
                                  *expected_.size));
    }
    if (expected_.crc32 && crc_ != *expected_.crc32) {
      throw Malformed(fmt::format("checksum differs (stored {:08x}, computed {:08x}); the data is damaged",
                                  *expected_.crc32, crc_));
    }
    if (!sum_) return;
    Bytes computed = sum_->finish();
    sum_.reset();
    if (computed != expected_.digest) {
      throw Malformed(fmt::format("{} differs (stored {}, computed {}); the data is damaged", expected_.sum,
                                  to_hex(expected_.digest), to_hex(computed)));
    }
  }

  StreamPtr inner_;
  Expected expected_;
  std::uint64_t done_ = 0;
  std::uint32_t crc_ = 0;
  std::unique_ptr<Sum> sum_;
};

}  // namespace

StreamPtr make_checked(StreamPtr inner, const Expected& expected) {
  return std::make_unique<CheckedStream>(std::move(inner), expected);
}

ContentPtr make_checked(ContentPtr inner, const Expected& expected) {
  return make_content(
      [inner = std::move(inner), expected] { return make_checked(inner->stream(), expected); });
}

}  // namespace operculum
