#pragma once

#include "cipher/key_ring.h"
#include "format/filesystem/apfs_volume.h"

namespace operculum::apfs {

/// Finds the key of an encrypted volume with a person's passphrase or recovery key (reference, "Encryption"
/// and "Accessing Encrypted Objects"). `name` is for messages. Throws NeedsKey, Malformed where the keybags
/// are damaged, and Unsupported where there are none: then the key lies in the machine that wrote the disk.
std::shared_ptr<const DiskCipher> unlock(const Container& container, const VolumeSuper& volume, KeyRing& keys,
                                         const std::string& name);

}  // namespace operculum::apfs
