#pragma once

#include <optional>
#include <string>
#include <vector>

#include "cipher/disk_cipher.h"
#include "cipher/key_derivation.h"
#include "cipher/key_ring.h"
#include "container/known_record.h"

namespace operculum::luks {

// LUKS, after "LUKS1 On-Disk Format Specification" 1.2.3 and "LUKS2 On-Disk Format Specification" 1.1.3 (C.
// Fruhwirth, M. Broz). Each key slot holds the volume's key, encrypted with what is derived from a
// passphrase, and split into many stripes that all are needed to join it again. A digest tells whether the
// joined key is the right one.

/// How a passphrase becomes the key of a slot.
struct Derivation {
  std::string kind;  ///< "pbkdf2", "argon2i", "argon2id"
  std::string hash;
  std::uint64_t rounds = 0;
  Argon2 argon;
  Bytes salt;
};

/// A key slot: how a passphrase opens it, and where its key lies.
struct Slot {
  unsigned number = 0;
  Derivation derivation;
  std::string encryption;         ///< of the area: "aes-xts-plain64"
  std::size_t area_key_size = 0;  ///< bytes
  std::uint64_t area_at = 0, area_size = 0;
  std::string split_hash;
  std::size_t stripes = 0, key_size = 0;
};

/// What compares a key.
struct Digest {
  std::string hash;
  std::uint64_t rounds = 0;
  Bytes salt, value;
  std::vector<unsigned> slots;  ///< that hold this key; empty: all
};

/// What the header tells, of either version.
struct Header {
  unsigned version = 0;
  std::string uuid, label;
  std::vector<Slot> slots;
  std::vector<Digest> digests;
  // the segment with the data
  std::string encryption;
  std::uint64_t data_at = 0;
  std::optional<std::uint64_t> data_size;  ///< nothing: to the end
  std::size_t sector_size = 512;
  std::uint64_t first_sector = 0;  ///< in units of 512 bytes: what the first sector's number is
  std::string integrity;           ///< not empty: sectors are authenticated
  std::vector<std::string> warnings;
  std::vector<std::string> unsupported_slots;  ///< "slot 3: kind tpm2"
};

constexpr std::string_view kMark = "LUKS\xBA\xBE";

/// The header at `at`. Throws Malformed, Unsupported.
Header read_header(const Source& file, std::uint64_t at);

/// The volume's key, by a passphrase or the bytes of a key file from the ring. Throws NeedsKey.
Secret unlock(const Header& header, const Source& file, std::uint64_t at, KeyRing& keys,
              const std::string& name);

/// The head of either version, at the begin of a file.
PlacedFields shown_head(Probe& probe);

}  // namespace operculum::luks
