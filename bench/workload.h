#pragma once

#include <cstdint>
#include <string>

#include "base/bytes.h"

namespace operculum::bench {

// Files to measure with, made once a run, and the raw work that each is compared with.

/// Puts bytes into a new file, whose folder is made where it is missing. Throws std::runtime_error.
void write_file(const std::string& path, ByteView bytes);

/// Bytes that pack to about a third, the same for the same seed.
Bytes text_like(std::size_t size, std::uint32_t seed);

void make_zip_of_files(const std::string& path, std::size_t count, std::size_t size);
void make_stored_zip(const std::string& path, std::uint64_t size);
void make_tar_zst(const std::string& path, std::size_t count, std::size_t size);
void make_zip_of_many(const std::string& path, std::size_t count);
/// A 4 KiB entry in a ZIP stored in a ZIP in a tar between two large images, packed as xz in blocks of 1 MiB.
void make_nested(const std::string& path, const std::string& folder);

// The baselines: the least that must be done, on one thread.

void unpack_zip_raw(const std::string& path,
                    const std::string& folder);  ///< libdeflate in a loop and write()
void unpack_tar_zst_raw(const std::string& path,
                        const std::string& folder);  ///< libzstd streaming and open/write/close
std::uint64_t list_zip_raw(
    const std::string& path);  ///< a loop over the central directory, names to /dev/null

}  // namespace operculum::bench
