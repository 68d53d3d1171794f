#pragma once

#include "container/format.h"

namespace operculum {

// The formats of volumes that hold volumes: mirrors, logical, encrypted, each made in the file of its name;
// registry.cpp puts them in order.

Format md_format();
Format ddf_format();
Format imsm_format();
Format lvm_format();
Format luks_format();
Format bitlocker_format();
Format ldm_format();
Format corestorage_format();
Format verity_format();
Format integrity_format();

/// Not in the registry: the file that is named is a LUKS volume whose header is in another file. Throws
/// Malformed, Unsupported.
Format told_luks_format(const SourcePtr& header);

/// Not in the registry: the file that is named is the data of a dm-verity hash tree, which is in `hashes`; it
/// is compared as it is read. Throws Malformed, Unsupported.
Format told_verity_format(const SourcePtr& hashes, const std::optional<Bytes>& root);

}  // namespace operculum
