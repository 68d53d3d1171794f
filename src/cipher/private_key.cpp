#include "cipher/private_key.h"

#include <openssl/decoder.h>
#include <openssl/evp.h>
#include <openssl/rsa.h>

#include <algorithm>

namespace operculum {

struct PrivateKey::Handle {
  EVP_PKEY* key = nullptr;
  explicit Handle(EVP_PKEY* one) : key(one) {}
  ~Handle() { EVP_PKEY_free(key); }
  Handle(const Handle&) = delete;
  Handle& operator=(const Handle&) = delete;
};

namespace {

using Context = std::unique_ptr<EVP_PKEY_CTX, decltype(&EVP_PKEY_CTX_free)>;

Context context_of(EVP_PKEY* key) {
  return {EVP_PKEY_CTX_new_from_pkey(nullptr, key, nullptr), EVP_PKEY_CTX_free};
}

using PublicKey = std::unique_ptr<EVP_PKEY, decltype(&EVP_PKEY_free)>;

/// A public key of the same kind, on the same curve.
PublicKey public_like(EVP_PKEY* own, ByteView raw) {
  PublicKey peer{EVP_PKEY_new(), EVP_PKEY_free};
  bool made = peer && EVP_PKEY_copy_parameters(peer.get(), own) == 1 &&
              EVP_PKEY_set1_encoded_public_key(peer.get(), raw.data(), raw.size()) == 1;
  if (!made) peer.reset();
  return peer;
}

}  // namespace

std::optional<PrivateKey> PrivateKey::read(ByteView text) {
  EVP_PKEY* key = nullptr;
  std::unique_ptr<OSSL_DECODER_CTX, decltype(&OSSL_DECODER_CTX_free)> decoder{
      OSSL_DECODER_CTX_new_for_pkey(&key, nullptr, nullptr, nullptr, EVP_PKEY_KEYPAIR, nullptr, nullptr),
      OSSL_DECODER_CTX_free};
  if (!decoder) return std::nullopt;
  // Nobody is asked for the password of a key.
  auto no_password = [](char*, std::size_t, std::size_t*, const OSSL_PARAM*, void*) { return 0; };
  OSSL_DECODER_CTX_set_passphrase_cb(decoder.get(), no_password, nullptr);
  const unsigned char* at = text.data();
  std::size_t left = text.size();
  if (OSSL_DECODER_from_data(decoder.get(), &at, &left) != 1 || key == nullptr) return std::nullopt;
  return PrivateKey(std::make_shared<Handle>(key));
}

std::optional<Secret> PrivateKey::open_oaep(ByteView sealed) const {
  Context context = context_of(handle_->key);
  std::size_t size = 0;
  bool ready = context && EVP_PKEY_is_a(handle_->key, "RSA") == 1 &&
               EVP_PKEY_decrypt_init(context.get()) == 1 &&
               EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_OAEP_PADDING) == 1 &&
               EVP_PKEY_CTX_set_rsa_oaep_md(context.get(), EVP_sha256()) == 1 &&
               EVP_PKEY_CTX_set_rsa_mgf1_md(context.get(), EVP_sha256()) == 1 &&
               EVP_PKEY_decrypt(context.get(), nullptr, &size, sealed.data(), sealed.size()) == 1;
  if (!ready) return std::nullopt;
  Secret room(size);
  if (EVP_PKEY_decrypt(context.get(), room.span().data(), &size, sealed.data(), sealed.size()) != 1)
    return std::nullopt;
  Secret out(size);
  std::copy_n(room.view().begin(), size, out.span().begin());
  return out;
}

std::optional<Secret> PrivateKey::agree(ByteView public_key) const {
  PublicKey peer = public_like(handle_->key, public_key);
  Context context = context_of(handle_->key);
  std::size_t size = 0;
  bool ready = peer && context && EVP_PKEY_derive_init(context.get()) == 1 &&
               EVP_PKEY_derive_set_peer(context.get(), peer.get()) == 1 &&
               EVP_PKEY_derive(context.get(), nullptr, &size) == 1;
  if (!ready) return std::nullopt;
  Secret out(size);
  if (EVP_PKEY_derive(context.get(), out.span().data(), &size) != 1) return std::nullopt;
  return out;
}

}  // namespace operculum
