#include "cipher/byte_ciphers.h"

#include <array>
#include <numeric>
#include <utility>

#include "base/error.h"

namespace operculum {
namespace {

Byte mixed(Mix mix, Byte data, Byte key) {
  return static_cast<Byte>(mix == Mix::exclusive_or ? data ^ key : mix == Mix::add ? data + key : data - key);
}

/// A stream whose bytes are changed one by one.
template <typename Change>
class Changed final : public Stream {
 public:
  Changed(StreamPtr inner, Change change) : inner_(std::move(inner)), change_(std::move(change)) {}
  std::size_t read(ByteSpan out) override {
    std::size_t count = inner_->read(out);
    for (Byte& b : out.first(count)) b = change_(b);
    return count;
  }

 private:
  StreamPtr inner_;
  Change change_;
};

template <typename Change>
StreamPtr changed(StreamPtr inner, Change change) {
  return std::make_unique<Changed<Change>>(std::move(inner), std::move(change));
}

class Rc4 {
 public:
  explicit Rc4(ByteView key) {
    std::iota(state_.begin(), state_.end(), Byte{0});
    for (std::size_t i = 0, j = 0; i < 256; ++i) {
      j = (j + state_[i] + key[i % key.size()]) & 0xff;
      std::swap(state_[i], state_[j]);
    }
  }
  Byte next() {
    i_ = (i_ + 1) & 0xff;
    j_ = (j_ + state_[i_]) & 0xff;
    std::swap(state_[i_], state_[j_]);
    return state_[(state_[i_] + state_[j_]) & 0xff];
  }

 private:
  std::array<Byte, 256> state_{};
  std::size_t i_ = 0, j_ = 0;
};

constexpr std::uint64_t kMostSkipped = 1 << 20;

}  // namespace

StreamPtr open_repeated_key(StreamPtr stored, Mix mix, Bytes key, std::uint64_t start) {
  if (key.empty()) throw NeedsKey("the key is empty");
  std::size_t at = static_cast<std::size_t>(start % key.size());
  return changed(std::move(stored), [mix, key = std::move(key), at](Byte b) mutable {
    Byte out = mixed(mix, b, key[at]);
    at = at + 1 == key.size() ? 0 : at + 1;
    return out;
  });
}

StreamPtr open_rotated(StreamPtr stored, unsigned bits) {
  bits %= 8;
  return changed(std::move(stored),
                 [bits](Byte b) { return static_cast<Byte>((b << bits) | (b >> ((8 - bits) % 8))); });
}

StreamPtr open_congruential(StreamPtr stored, Mix mix, const Congruential& generator) {
  return changed(std::move(stored), [mix, generator, state = generator.seed](Byte b) mutable {
    state = state * generator.factor + generator.summand;
    return mixed(mix, b, static_cast<Byte>(generator.shift > 31 ? 0 : state >> generator.shift));
  });
}

StreamPtr open_rc4(StreamPtr stored, ByteView key, std::uint64_t skip) {
  if (key.empty()) throw NeedsKey("the key is empty");
  if (skip > kMostSkipped) throw Malformed("rc4: more than 1 MiB of the key stream is passed over");
  Rc4 state(key);
  for (std::uint64_t i = 0; i < skip; ++i) state.next();
  return changed(std::move(stored), [state](Byte b) mutable { return static_cast<Byte>(b ^ state.next()); });
}

}  // namespace operculum
