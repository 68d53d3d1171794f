// The key of an encrypted MCUboot image, after its documents ("encrypted_images"): wrapped in another key;
// sealed by RSA-OAEP; or sealed by ECIES, whose value is
//
//   public key made for this image | HMAC of the sealed key | sealed key
//
// The secret that the device's key shares with the public one gives, by HKDF, a key for AES in counter mode
// and one for the HMAC.
#include "format/firmware/mcuboot_key.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "cipher/block_ciphers.h"
#include "cipher/key_derivation.h"
#include "cipher/private_key.h"
#include "format/firmware/named_key.h"

namespace operculum::mcuboot {
namespace {

constexpr std::size_t kWrapCheckSize = 8, kMacSize = 32;  // RFC 3394, SHA-256
constexpr std::string_view kRingName = "mcuboot", kInfo = "MCUBoot_ECIES_v1";

std::optional<Secret> open_rsa(const PrivateKey& own, ByteView value, std::size_t, std::size_t) {
  return own.open_oaep(value);
}

std::optional<Secret> open_ecies(const PrivateKey& own, ByteView value, std::size_t public_size,
                                 std::size_t size) {
  auto shared = own.agree(value.first(public_size));
  if (!shared) return std::nullopt;
  Secret derived = derive_hkdf(shared->view(), kInfo, size + kMacSize);
  ByteView mac = value.subspan(public_size, kMacSize), sealed = value.subspan(public_size + kMacSize);
  if (!same_secret(hmac_of(derived.view().subspan(size), sealed).view(), mac)) return std::nullopt;
  StreamPtr plain = open_block_cipher(make_source_stream(make_memory_source({sealed.begin(), sealed.end()})),
                                      make_aes(derived.view().first(size)), BlockMode::ctr, {});
  Secret key(size);
  read_fully(*plain, key.span());
  return key;
}

struct Form {
  KeyTag tag;
  std::string_view words;
  std::size_t public_size, mac_size, sealed_size;  ///< the last is that of the key where it is 0
  std::optional<Secret> (*open)(const PrivateKey& own, ByteView value, std::size_t public_size,
                                std::size_t size);
};
constexpr Form kForms[] = {
    {sealed_by_rsa, "RSA", 0, 0, 256, open_rsa},
    {sealed_on_p256, "P-256", 65, kMacSize, 0, open_ecies},
    {sealed_on_x25519, "X25519", 32, kMacSize, 0, open_ecies},
};

Bytes copied(const std::optional<Secret>& key) {
  return {key->view().begin(), key->view().end()};
}

void require_size(const Tagged& one, std::size_t expected, std::string_view what) {
  if (one.value.size() != expected)
    throw Malformed(
        fmt::format("MCUboot: expected a {} of {} bytes, found {}", what, expected, one.value.size()));
}

Bytes unwrap(const Tagged& wrapped, std::size_t size, const std::string& container, KeyRing& keys) {
  require_size(wrapped, size + kWrapCheckSize, "wrapped key");
  Bytes kek = find_block_key({std::string(kRingName), container, size}, keys, [&](ByteView candidate) {
    return unwrap_key(candidate, wrapped.value).has_value();
  });
  return copied(unwrap_key(kek, wrapped.value));
}

Bytes unseal(const Tagged& sealed, const Form& form, std::size_t size, const std::string& container,
             KeyRing& keys) {
  std::size_t end = form.sealed_size == 0 ? size : form.sealed_size;
  require_size(sealed, form.public_size + form.mac_size + end, fmt::format("key sealed for {}", form.words));
  auto open = [&](const std::string& secret) -> std::optional<Secret> {
    auto own = PrivateKey::read(as_bytes(secret));
    auto key = own ? form.open(*own, sealed.value, form.public_size, size) : std::nullopt;
    return key && key->size() == size ? std::move(key) : std::nullopt;
  };
  try {
    Key own = keys.find_named(std::string(kRingName), container, [&](const std::string& secret) {
      return open(secret) ? KeyRing::Fit::yes : KeyRing::Fit::no;
    });
    return copied(open(own.secret));
  } catch (const NeedsKey& error) {
    throw NeedsKey(
        fmt::format("{}; the image's key is sealed for a private key ({}), whose file --key-file names",
                    error.what(), form.words));
  }
}

}  // namespace

Bytes find_image_key(std::span<const Tagged> tags, std::size_t size, const std::string& container,
                     KeyRing& keys) {
  for (const Tagged& one : tags) {
    if (one.tag == wrapped_key) return unwrap(one, size, container, keys);
    auto form = std::find_if(std::begin(kForms), std::end(kForms),
                             [&](const Form& known) { return known.tag == one.tag; });
    if (form != std::end(kForms)) return unseal(one, *form, size, container, keys);
  }
  throw Unsupported("an encrypted image whose key is sealed in no way that is known");
}

}  // namespace operculum::mcuboot
