#include "format/firmware/named_key.h"

#include "base/text.h"

namespace operculum {
namespace {

class FirstBytes final : public Stream {
 public:
  FirstBytes(StreamPtr inner, std::uint64_t size) : inner_(std::move(inner)), left_(size) {}
  std::size_t read(ByteSpan out) override {
    if (left_ == 0) return 0;
    std::size_t count =
        inner_->read(out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), left_))));
    left_ -= count;
    return count;
  }

 private:
  StreamPtr inner_;
  std::uint64_t left_;
};

std::optional<Bytes> key_of(const std::string& secret, std::size_t size) {
  if (secret.size() == 2 * size) {
    if (auto raw = from_hex(secret)) return raw;
  }
  if (secret.size() == size) return Bytes(secret.begin(), secret.end());
  return std::nullopt;
}

}  // namespace

Bytes find_block_key(const WantedKey& wanted, KeyRing& keys, const std::function<bool(ByteView)>& fits) {
  Key key = keys.find_named(wanted.name, wanted.container, [&](const std::string& secret) {
    auto raw = key_of(secret, wanted.size);
    return raw && fits(*raw) ? KeyRing::Fit::yes : KeyRing::Fit::no;
  });
  return *key_of(key.secret, wanted.size);
}

StreamPtr make_first_bytes(StreamPtr inner, std::uint64_t size) {
  return std::make_unique<FirstBytes>(std::move(inner), size);
}

}  // namespace operculum
