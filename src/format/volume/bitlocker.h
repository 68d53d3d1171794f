#pragma once

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "base/time.h"
#include "cipher/key_ring.h"
#include "cipher/secret.h"
#include "io/source.h"

namespace operculum::bitlocker {

// BitLocker volumes. There is no specification of their metadata; they are read as commonly documented, the
// diffuser after "AES-CBC + Elephant diffuser" (N. Ferguson, 2006).
//
// The boot sector leads to three copies of a block of metadata. It holds the volume's key, sealed by a master
// key, and the master key as often as there are ways to unlock the volume, each time sealed by a key that is
// made of a password, a recovery password, a file, or what a security chip keeps. The first sectors of the
// volume within lie elsewhere, for the boot sector has their place; the metadata and that place read as
// zeros.

/// A key that AES-CCM sealed with another one.
struct SealedKey {
  std::array<Byte, 12> nonce{};
  std::array<Byte, 16> tag{};
  Bytes sealed;
};

/// One of the ways to the master key.
struct Protector {
  enum class Kind { clear_key, key_file, recovery_password, password, other };
  std::string id;  ///< a GUID
  Kind kind = Kind::other;
  std::uint16_t type = 0;    ///< as stored
  Bytes salt;                ///< of passwords
  std::optional<Bytes> key;  ///< of a clear key
  std::optional<SealedKey> master;
};

/// What the metadata of an encrypted volume tells.
struct Volume {
  unsigned version = 0;
  std::string id, description;
  std::uint16_t method = 0;  ///< of the encryption
  std::size_t sector = 512;  ///< bytes
  Timestamp made;
  std::vector<Protector> protectors;
  std::optional<SealedKey> key;
  std::uint64_t size = 0;       ///< bytes, of the volume within
  std::uint64_t encrypted = 0;  ///< bytes from the front on; what follows is plain
  std::array<std::uint64_t, 3> metadata_at{};
  std::uint64_t metadata_size = 0;              ///< bytes, of each copy's place
  std::uint64_t head_at = 0, head_size = 0;     ///< where the first sectors are
  std::optional<std::uint64_t> mirror_cluster;  ///< of the first version, whose first sectors are plain
  bool encrypted_on_write = false;  ///< what was not written to since is plain, which nothing known tells
  std::vector<std::string> warnings;
};

/// What in a boot sector tells such a volume, and where: the metadata's places follow.
struct Identifier {
  enum class Kind { first_version, usual, encrypted_on_write } kind;
  std::size_t places_at;
};
std::optional<Identifier> find_identifier(ByteView boot_sector);

/// Throws Malformed, Unsupported.
Volume read_volume(const Source& file);

/// "AES in CBC mode, 128 bits, with diffuser"; "method 0x8009" for those that are not known.
std::string method_name(std::uint16_t method);
/// "password", "security chip and PIN", ...
std::string protector_name(const Protector& protector);

/// The volume's key, by a clear key, or a password, a recovery password or a key file's bytes from the ring.
/// Throws NeedsKey, Unsupported, Malformed.
Secret unlock(const Volume& volume, KeyRing& keys, const std::string& name);

/// The volume within, as the system sees it. Throws Unsupported.
SourcePtr decrypt(const SourcePtr& file, const Volume& volume, const Secret& key);

}  // namespace operculum::bitlocker
