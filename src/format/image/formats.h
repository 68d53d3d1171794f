#pragma once

#include "container/format.h"

namespace operculum {

// The formats of disk images, disc images and partition tables, each made in the file of its name;
// registry.cpp puts them in order.

Format encrypted_image_format();
Format qcow2_format();
Format vhd_format();
Format vhdx_format();
Format vdi_format();
Format qed_format();
Format sparse_bundle_format();
Format cd_image_format();
Format cue_format();
Format vmdk_format();
Format udif_format();
Format android_sparse_format();
Format gpt_format();
Format mbr_format();
Format apple_map_format();
Format sun_label_format();
Format sgi_label_format();
Format amiga_table_format();
Format bsd_label_format();
Format atari_table_format();

// Containers of new entries, for Format::pack.
Assembly pack_qcow2(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_vhd(const std::vector<NewEntry>& entries, const Writing& writing);

}  // namespace operculum
