// Keybags: the container's holds each volume's key, wrapped with a key that the volume's own bag holds once
// for each passphrase, wrapped with what is derived from it. The bags themselves are encrypted with the
// identifiers of container and volume, which are no secret.
#include "format/filesystem/apfs_keys.h"

#include <algorithm>

#include "base/checked.h"
#include "base/structure_fields.h"
#include "cipher/key_derivation.h"

namespace operculum::apfs {
namespace {

using Uuid = std::array<Byte, 16>;

constexpr std::uint16_t kVolumeKey = 2, kUnlockRecords = 3;  // KB_TAG_...
constexpr std::size_t kUuidSize = 16;

struct KeyEntry {
  Uuid uuid = {};
  std::uint16_t tag = 0;
  Bytes data;
};

std::shared_ptr<const DiskCipher> cipher_of(ByteView first, ByteView second) {
  Secret key(first.size() + second.size());
  std::copy(second.begin(), second.end(), std::copy(first.begin(), first.end(), key.span().begin()));
  constexpr std::size_t kSector = 512;
  return make_disk_cipher("aes-xts-plain64", key.view(), kSector);
}

/// A keybag (media_keybag_t): an object, a head of 16 bytes, and entries in steps of 16.
std::vector<KeyEntry> read_bag(const Blocks& blocks, std::uint64_t start, std::uint64_t count,
                               const Uuid& uuid) {
  constexpr std::uint64_t kMostBlocks = 256;
  if (count == 0 || count > kMostBlocks)
    throw Malformed(fmt::format("APFS keybag: {} blocks are not possible", count));
  Bytes raw = read_exactly(*blocks.image(), checked_mul(start, blocks.size(), "an APFS keybag's place"),
                           count * blocks.size(), "APFS keybag");
  cipher_of(uuid, uuid)->decrypt(start * (blocks.size() / 512), raw);
  Blocks::check(raw, start, "APFS keybag");
  constexpr std::size_t kHead = size_on_disk<ObjectHead>, kEntriesAt = kHead + 16, kEntryHead = 24;
  LittleFields f(raw, "APFS keybag", start * blocks.size());
  std::vector<KeyEntry> out;
  std::size_t at = kEntriesAt;
  for (unsigned i = 0, all = f.u16(kHead + 2); i < all; ++i) {
    KeyEntry one;
    std::ranges::copy(f.bytes(at, kUuidSize), one.uuid.begin());
    one.tag = f.u16(at + 16);
    ByteView data = f.bytes(at + kEntryHead, f.u16(at + 18));
    one.data.assign(data.begin(), data.end());
    out.push_back(std::move(one));
    at += (kEntryHead + data.size() + 15) / 16 * 16;
  }
  return out;
}

/// The value of a tag in a row of DER elements (X.690): lengths of up to two further bytes are enough here.
std::optional<ByteView> element(ByteView row, Byte tag) {
  LittleFields f(row, "APFS key");
  for (std::size_t at = 0; at + 2 <= row.size();) {
    std::size_t length = f.u8(at + 1), head = 2;
    if (length == 0x81)
      length = f.u8(at + 2), head = 3;
    else if (length == 0x82)
      length = std::size_t{f.u8(at + 2)} << 8 | f.u8(at + 3), head = 4;
    ByteView value = f.bytes(at + head, length);
    if (row[at] == tag) return value;
    at += head + length;
  }
  return std::nullopt;
}

/// A key in its wrapping.
struct WrappedKey {
  ByteView wrapped, salt;
  std::uint64_t rounds = 0;
  bool is_short() const { return wrapped.size() == 24; }  ///< of 128 bits
};

WrappedKey read_wrapped(ByteView blob) {
  auto whole = element(blob, 0x30);
  auto inner = whole ? element(*whole, 0xA3) : std::nullopt;
  auto wrapped = inner ? element(*inner, 0x83) : std::nullopt;
  if (!wrapped) throw Malformed("APFS keybag: a wrapped key is missing in its entry");
  WrappedKey out;
  out.wrapped = *wrapped;
  for (Byte digit : element(*inner, 0x84).value_or(ByteView())) out.rounds = out.rounds << 8 | digit;
  out.salt = element(*inner, 0x85).value_or(ByteView());
  return out;
}

/// What is derived from a passphrase unwraps the key that unwraps the volume's.
std::optional<Secret> volume_key(const WrappedKey& kek, const WrappedKey& vek, ByteView passphrase) {
  if (kek.rounds == 0) return std::nullopt;
  constexpr std::size_t kSize = 32, kShort = 16;
  Secret derived = derive_pbkdf2(passphrase, "sha256", kek.salt, kek.rounds, kSize);
  auto key = unwrap_key(kek.is_short() ? derived.view().first(kShort) : derived.view(), kek.wrapped);
  if (!key) return std::nullopt;
  auto out = unwrap_key(key->view(), vek.wrapped);
  if (!out)
    throw Malformed("APFS: the passphrase is right, but the volume's key in the container is damaged");
  return out;
}

}  // namespace

std::shared_ptr<const DiskCipher> unlock(const Container& container, const VolumeSuper& volume, KeyRing& keys,
                                         const std::string& name) {
  const ContainerSuper& super = container.super();
  if ((volume.fs_flags & VolumeSuper::one_key) == 0)
    throw Unsupported("an APFS volume with a key for each file");
  if (super.keylocker_count == 0)
    throw Unsupported("an APFS volume whose key lies in the machine that wrote it");
  auto bag = read_bag(container.blocks(), super.keylocker_start, super.keylocker_count, super.uuid);
  auto entry = [&](std::uint16_t tag) {
    auto found = std::find_if(bag.begin(), bag.end(), [&](const KeyEntry& one) {
      return one.uuid == volume.vol_uuid && one.tag == tag;
    });
    if (found == bag.end()) throw Unsupported("an APFS volume whose key is not among those of its container");
    return found;
  };
  WrappedKey vek = read_wrapped(entry(kVolumeKey)->data);
  auto place = structure_in<BlockRange>(entry(kUnlockRecords)->data, "APFS keybag's place");
  auto records = read_bag(container.blocks(), place.start_paddr, place.block_count, volume.vol_uuid);
  std::shared_ptr<const DiskCipher> out;
  keys.find(name, [&](const std::string& secret) {
    for (const KeyEntry& one : records) {
      if (one.tag != kUnlockRecords) continue;
      auto key = volume_key(read_wrapped(one.data), vek, as_bytes(secret));
      if (!key) continue;
      if (vek.is_short()) {  // the other half comes of it and of the volume's identifier
        Secret both(key->size() + kUuidSize);
        std::ranges::copy(volume.vol_uuid, std::ranges::copy(key->view(), both.span().begin()).out);
        Secret tweak = hash_of("sha256", both.view());
        out = cipher_of(key->view(), tweak.view().first(key->size()));
      } else {
        std::size_t half = key->size() / 2;
        out = cipher_of(key->view().first(half), key->view().subspan(half));
      }
      return KeyRing::Fit::yes;
    }
    return KeyRing::Fit::no;
  });
  return out;
}

}  // namespace operculum::apfs
