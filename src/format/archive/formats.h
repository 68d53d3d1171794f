#pragma once

#include "container/format.h"

namespace operculum {

// The formats of archives, each made in the file of its name; registry.cpp puts them in order.

Format zip_format();
Format tar_format();
Format cpio_format();
Format ar_format();
Format cab_format();
Format cfb_format();
Format riff_format();

// Containers of new entries, for Format::pack.
Assembly pack_zip(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_tar(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_cpio(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_ar(const std::vector<NewEntry>& entries, const Writing& writing);

/// The view with which files of chunks are asked for, and the format that then recognises them.
inline constexpr std::string_view kChunksView = "chunks";
Format asked_riff_format();

}  // namespace operculum
