#include "codec/lzss.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "codec/lzss_token.h"
#include "io/input_buffer.h"

namespace operculum {
namespace {

class LzssStream final : public Stream {
 public:
  LzssStream(StreamPtr packed, const LzssDialect& dialect, std::optional<std::uint64_t> size)
      : input_(std::move(packed)),
        dialect_(dialect),
        token_(dialect.token),
        left_(size.value_or(UINT64_MAX)) {
    check_dialect(dialect);
    window_.assign(static_cast<std::size_t>(dialect.window), dialect.fill);
    at_ = static_cast<std::size_t>(dialect.start);
  }

  std::size_t read(ByteSpan out) override {
    std::size_t done = 0;
    while (done < out.size() && left_ > 0 && !ended_) {
      if (copy_ > 0) {
        while (copy_ > 0 && done < out.size() && left_ > 0) {
          put(out, done, window_[from_]);
          from_ = from_ + 1 == window_.size() ? 0 : from_ + 1;
          --copy_;
        }
        continue;
      }
      if (!next_flag()) break;
      if (flag_ == dialect_.literal_flag) {
        ByteView one = input_.view();
        if (one.empty()) break;
        put(out, done, one[0]);
        input_.consume(1);
      } else if (!begin_copy()) {
        break;
      }
    }
    return done;
  }

 private:
  void put(ByteSpan out, std::size_t& done, Byte b) {
    out[done++] = b;
    window_[at_] = b;
    at_ = at_ + 1 == window_.size() ? 0 : at_ + 1;
    --left_;
  }

  bool next_flag() {
    if (flags_left_ == 0) {
      ByteView bytes = input_.ensure(dialect_.flag_bytes);
      if (bytes.size() < dialect_.flag_bytes) return false;
      flags_ = 0;
      for (unsigned i = 0; i < dialect_.flag_bytes; ++i) flags_ |= std::uint32_t{bytes[i]} << (8 * i);
      input_.consume(dialect_.flag_bytes);
      flags_left_ = 8 * dialect_.flag_bytes;
    }
    unsigned bits = 8 * dialect_.flag_bytes;
    --flags_left_;
    unsigned bit = dialect_.flags_from_low ? bits - 1 - flags_left_ : flags_left_;
    flag_ = (flags_ >> (bit % 32) & 1) != 0;
    return true;
  }

  bool begin_copy() {
    ByteView bytes = input_.ensure(token_.bytes);
    if (bytes.size() < token_.bytes) {
      if (!bytes.empty()) throw CutShort("lzss data: the data ends within a copy; it is cut short");
      return false;
    }
    std::uint64_t value = 0;
    for (unsigned i = 0; i < token_.bytes; ++i) value = (value << 8) | bytes[i];
    input_.consume(token_.bytes);
    std::uint64_t offset = token_.offset(value), length = token_.length(value);
    if (dialect_.stops && offset == 0 && length == 0) {
      ended_ = true;
      return true;
    }
    copy_ = length + dialect_.least;
    if (dialect_.longer != 0 && length == token_.greatest_length()) {
      Byte more = 0;
      do {
        ByteView next = input_.view();
        if (next.empty()) throw CutShort("lzss data: the data ends within a length; it is cut short");
        more = next[0];
        input_.consume(1);
        copy_ += more;
      } while (dialect_.longer == 2 && more == 255);
    }
    if (dialect_.ring) {
      from_ = static_cast<std::size_t>(offset % window_.size());
    } else {
      std::uint64_t distance = offset + dialect_.nearest;
      if (distance == 0 || distance > window_.size())
        throw Malformed(
            fmt::format("lzss data: a copy from {} bytes back, with a window of {}; the data is damaged",
                        distance, window_.size()));
      from_ = (at_ + window_.size() - static_cast<std::size_t>(distance)) % window_.size();
    }
    return true;
  }

  InputBuffer input_;
  LzssDialect dialect_;
  LzssToken token_;
  std::uint64_t left_;
  Bytes window_;
  std::size_t at_ = 0, from_ = 0;
  std::uint64_t copy_ = 0;
  std::uint32_t flags_ = 0;
  unsigned flags_left_ = 0;
  bool flag_ = false, ended_ = false;
};

}  // namespace

void check_dialect(const LzssDialect& dialect) {
  constexpr std::uint64_t kLargestWindow = 16 << 20;
  if (dialect.window == 0 || dialect.window > kLargestWindow || dialect.start >= dialect.window)
    throw Malformed(
        fmt::format("lzss: a window of {} bytes that begins at {}", dialect.window, dialect.start));
  if (dialect.flag_bytes != 1 && dialect.flag_bytes != 2 && dialect.flag_bytes != 4)
    throw Malformed(fmt::format("lzss: flags of {} bytes; 1, 2 or 4 are known", dialect.flag_bytes));
}

StreamPtr open_lzss(StreamPtr packed, const LzssDialect& dialect, std::optional<std::uint64_t> size) {
  return std::make_unique<LzssStream>(std::move(packed), dialect, size);
}

}  // namespace operculum
