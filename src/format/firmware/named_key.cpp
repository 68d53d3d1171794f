#include "format/firmware/named_key.h"

#include "base/text.h"

namespace operculum {
namespace {

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

}  // namespace operculum
