#include "format/image/encrypted_image.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/structure.h"
#include "base/text.h"
#include "cipher/block_ciphers.h"
#include "cipher/disk_cipher.h"
#include "cipher/key_derivation.h"
#include "container/record_fields.h"
#include "format/filesystem/file_tree.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/locked_source.h"
#include "io/spool.h"

namespace operculum {
namespace encrypted_image {
namespace {

constexpr std::size_t kHmacKey = 20, kWrappingKey = 24, kDesBlock = 8;

struct FileHead {
  std::array<Byte, 8> signature{};
  std::uint32_t version = 0, algorithm = 0, key_bits = 0;
  std::array<Byte, 16> uuid{};
  std::uint32_t block_size = 0;
  std::uint64_t data_size = 0, data_offset = 0;
  std::uint32_t key_count = 0;
  static constexpr auto layout =
      big_endian(field("signature", &FileHead::signature), field("version", &FileHead::version),
                 from_byte<20>(), field("blockAlgorithm", &FileHead::algorithm),
                 field("blockKeyBits", &FileHead::key_bits), from_byte<36>(), field("uuid", &FileHead::uuid),
                 field("blockSize", &FileHead::block_size), field("dataSize", &FileHead::data_size),
                 field("dataOffset", &FileHead::data_offset), field("keyCount", &FileHead::key_count));
  static constexpr std::uint32_t aes = 0x80000001;
};

/// Where a way to the keys is.
struct KeyPointer {
  std::uint32_t type = 0;
  std::uint64_t offset = 0, size = 0;
  static constexpr std::uint32_t passphrase = 1;
  static constexpr auto layout =
      big_endian(field("type", &KeyPointer::type), field("offset", &KeyPointer::offset),
                 field("size", &KeyPointer::size));
};

struct PassphraseKey {
  std::uint32_t kdf_algorithm = 0, rounds = 0, salt_size = 0;
  std::array<Byte, 32> salt{};
  std::uint32_t vector_size = 0;
  std::array<Byte, 32> vector{};
  std::uint32_t key_bits = 0, algorithm = 0, blob_size = 0;
  static constexpr std::uint32_t pbkdf2 = 103, triple_des = 17;
  static constexpr auto layout = big_endian(
      field("kdfAlgorithm", &PassphraseKey::kdf_algorithm), from_byte<8>(),
      field("kdfIterationCount", &PassphraseKey::rounds), field("kdfSaltLen", &PassphraseKey::salt_size),
      field("kdfSalt", &PassphraseKey::salt), field("blobEncIVSize", &PassphraseKey::vector_size),
      field("blobEncIV", &PassphraseKey::vector), field("blobEncKeyBits", &PassphraseKey::key_bits),
      field("blobEncAlgorithm", &PassphraseKey::algorithm), from_byte<100>(),
      field("encryptedBlobSize", &PassphraseKey::blob_size));
};

Wrapping read_wrapping(const Source& file, const KeyPointer& pointer) {
  constexpr std::uint64_t kLargest = 4096;
  if (pointer.size < size_on_disk<PassphraseKey> || pointer.size > kLargest)
    throw Malformed(fmt::format("encrypted image: expected a passphrase's key of at most {} bytes, found {}",
                                kLargest, pointer.size));
  Bytes raw = read_exactly(file, pointer.offset, pointer.size, "encrypted image's key");
  auto key = read_structure<PassphraseKey>(raw.data());
  auto refuse = [&](auto member, std::uint64_t most, std::uint64_t found) {
    refuse_field("encrypted image's key", pointer.offset, member, fmt::format("at most {}", most),
                 fmt::format("{}", found));
  };
  std::uint64_t room = raw.size() - size_on_disk<PassphraseKey>;
  if (key.salt_size > key.salt.size()) refuse(&PassphraseKey::salt_size, key.salt.size(), key.salt_size);
  if (key.vector_size > key.vector.size())
    refuse(&PassphraseKey::vector_size, key.vector.size(), key.vector_size);
  if (key.blob_size > room) refuse(&PassphraseKey::blob_size, room, key.blob_size);
  if (key.kdf_algorithm != PassphraseKey::pbkdf2 || key.algorithm != PassphraseKey::triple_des ||
      key.key_bits != kWrappingKey * 8)
    throw Unsupported(fmt::format("encrypted images whose keys are wrapped by method {} with {} bits",
                                  key.algorithm, key.key_bits));
  ByteView blob = ByteView(raw).subspan(size_on_disk<PassphraseKey>, key.blob_size);
  return {key.rounds, Bytes(key.salt.begin(), key.salt.begin() + key.salt_size),
          Bytes(key.vector.begin(), key.vector.begin() + key.vector_size), Bytes(blob.begin(), blob.end())};
}

/// Both keys behind each other, where the passphrase is right: the padding and what follows the keys tell.
std::optional<Secret> unwrap(const Head& head, const Wrapping& by, ByteView passphrase) {
  constexpr std::string_view kEnd("CKIE\0", 5);
  if (by.wrapped.size() % kDesBlock != 0 || by.vector.size() != kDesBlock) return std::nullopt;
  Secret derived = derive_pbkdf2(passphrase, "sha1", by.salt, by.rounds, kWrappingKey);
  auto cipher = make_des(derived.view());
  Secret plain(by.wrapped.size());
  for (std::size_t at = 0; at < plain.size(); at += kDesBlock) {
    ByteSpan block = plain.span().subspan(at, kDesBlock);
    std::copy_n(by.wrapped.begin() + static_cast<std::ptrdiff_t>(at), kDesBlock, block.begin());
    cipher->decrypt(block.data());
    const Byte* before = at == 0 ? by.vector.data() : by.wrapped.data() + at - kDesBlock;
    for (std::size_t i = 0; i < kDesBlock; ++i) block[i] ^= before[i];
  }
  std::size_t keys = head.key_size + kHmacKey;
  if (plain.size() < keys + kEnd.size() || as_text(plain.view().subspan(keys, kEnd.size())) != kEnd)
    return std::nullopt;
  Secret out(keys);
  std::copy_n(plain.view().begin(), keys, out.span().begin());
  return out;
}

Secret unlock(const Head& head, KeyRing& keys, const std::string& name) {
  if (head.wrappings.empty()) throw Unsupported("encrypted images that no passphrase opens");
  std::optional<Secret> found;
  keys.find(name, [&](const std::string& secret) {
    DerivationBudget budget;
    for (const Wrapping& one : head.wrappings) {
      budget.spend(one.rounds);
      found = unwrap(head, one, as_bytes(secret));
      if (found) return KeyRing::Fit::yes;
    }
    return KeyRing::Fit::no;
  });
  return std::move(*found);
}

}  // namespace

Head read_head(const Source& file) {
  auto head = read_structure<FileHead>(
      read_exactly(file, 0, size_on_disk<FileHead>, "encrypted image's head").data());
  if (as_text(head.signature) != kMark) throw Malformed("encrypted image: the mark is missing");
  if (head.version != 2) throw Unsupported(fmt::format("encrypted images of version {}", head.version));
  if (head.algorithm != FileHead::aes || (head.key_bits != 128 && head.key_bits != 256))
    throw Unsupported(
        fmt::format("encrypted images by method {:#x} with {} bits", head.algorithm, head.key_bits));
  if (head.block_size < 512 || head.block_size > (1 << 20) || head.block_size % 512 != 0)
    refuse_field("encrypted image's head", 0, &FileHead::block_size, "a multiple of 512",
                 fmt::format("{}", head.block_size));
  constexpr std::uint32_t kMostKeys = 64;
  if (head.key_count > kMostKeys)
    refuse_field("encrypted image's head", 0, &FileHead::key_count, "at most 64",
                 fmt::format("{}", head.key_count));
  Head out;
  out.id = uuid_text(head.uuid);
  out.key_size = head.key_bits / 8;
  out.block_size = head.block_size;
  out.data_size = head.data_size;
  out.data_at = head.data_offset;
  Bytes pointers = read_exactly(file, size_on_disk<FileHead>, head.key_count * size_on_disk<KeyPointer>,
                                "encrypted image's head");
  for (std::uint32_t i = 0; i < head.key_count; ++i) {
    auto pointer = read_structure<KeyPointer>(pointers.data() + i * size_on_disk<KeyPointer>);
    if (pointer.type == KeyPointer::passphrase)
      out.wrappings.push_back(read_wrapping(file, pointer));
    else
      ++out.others;
  }
  return out;
}

SourcePtr decrypt(const Head& head, SourcePtr stored, std::uint64_t at, std::uint64_t size, KeyRing keys,
                  const std::string& name) {
  return make_locked(
      size, [head, stored = std::move(stored), at, size, keys = std::move(keys), name]() mutable {
        Secret key = unlock(head, keys, name);
        std::uint64_t whole = (size + head.block_size - 1) / head.block_size * head.block_size;
        auto cipher =
            make_disk_cipher(fmt::format("aes-cbc-hmac:{}", head.block_size), key.view(), head.block_size);
        return make_slice(make_decrypted(stored, at, whole, cipher, head.block_size, 0), 0, size);
      });
}

}  // namespace encrypted_image

namespace {

using namespace encrypted_image;

constexpr std::size_t kMarkSize = 8;

Match recognise_encrypted(Probe& probe) {
  return starts_with(probe.head(kMarkSize), kMark) || starts_with(probe.tail(kMarkSize), kOldMark)
             ? Match::front
             : Match::none;
}

ContainerPtr open_encrypted(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  if (!starts_with(read_up_to(*file, 0, kMarkSize), kMark))
    throw Unsupported("encrypted images of version 1");
  Head head = read_head(*file);
  DiskImage image;
  image.method = "encrypted";
  image.facts = {
      {"uuid", head.id},
      {"cipher", fmt::format("AES in CBC mode, {} bits", head.key_size * 8)},
      {"sector", fmt::format("{} bytes", head.block_size)},
      {"unlocked by", fmt::format("passphrases: {}, certificates: {}", head.wrappings.size(), head.others)}};
  image.bytes = decrypt(head, file, head.data_at, head.data_size, context.keys, input.name);
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format encrypted_image_format() {
  return {.id = "encrypted-image",
          .name = "encrypted disk image",
          .family = "disk image",
          .specification = "none published; as commonly documented",
          .reads = "version 2, AES of 128 and 256 bits, by passphrase",
          .lacks = "version 1; keys that a certificate wraps",
          .suffixes = {".dmg"},
          .single_stream = true,
          .recognise = recognise_encrypted,
          .open = open_encrypted,
          .records = {record_at<FileHead>("header", 0)}};
}

}  // namespace operculum
