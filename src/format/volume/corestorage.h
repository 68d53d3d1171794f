#pragma once

#include <optional>
#include <string>
#include <vector>

#include "cipher/key_ring.h"
#include "cipher/secret.h"
#include "io/source.h"

namespace operculum::corestorage {

// CoreStorage volumes, encrypted ones ("FileVault 2") for the most part. Their maker published no
// specification; they are read after "Infiltrate the Vault: Security Analysis and Decryption of Lion Full
// Disk Encryption" (O. Choudary, F. Grobert, J. Metz, 2012) and as commonly documented.
//
// A head in the first sector leads to copies of a block that tells where the encrypted metadata lie; their
// key is in the head, so it hides nothing. They are blocks with property lists: of the volume (name, size),
// of its family (who can unlock it, with the keys that a passphrase wraps), and the volume's place. The
// volume's sectors are encrypted with AES-XTS.

/// One of those who can unlock the volume: a key that a passphrase wraps.
struct User {
  std::string id;  ///< a UUID
  std::uint32_t rounds = 0;
  Bytes salt, wrapped_key;
};

/// A run of the volume, in bytes.
struct Run {
  std::uint64_t logical = 0, physical = 0, length = 0;
};

/// A logical volume and the physical one that holds it.
struct Volume {
  std::string physical_id, group_id, family_id, id, name, status;
  std::uint64_t size = 0;  ///< bytes
  std::vector<Run> runs;
  bool encrypted = false;
  std::vector<User> users;
  Bytes wrapped_key;  ///< of the volume
  std::vector<std::string> warnings;
};

/// Whether a first sector is that of such a volume.
bool is_head(ByteView sector);

/// Throws Malformed, Unsupported.
Volume read_volume(const Source& file);

/// Both parts of the volume's key for AES-XTS, by a passphrase from the ring. Throws NeedsKey.
Secret unlock(const Volume& volume, KeyRing& keys, const std::string& name);

}  // namespace operculum::corestorage
