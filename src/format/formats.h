#pragma once

#include "container/format.h"

namespace operculum {

struct FlashPartition;

// One line a format; the registry (registry.cpp) puts them in order. Each is made in the file of its name.

Format zip_format();
Format tar_format();
Format cpio_format();
Format ar_format();
Format cab_format();
Format cfb_format();
Format riff_format();

Format msi_format();
Format pe_format();
Format rpm_format();
Format deb_format();
Format xar_format();
Format wim_format();
Format carrier_format();

Format ext_format();
Format xfs_format();
Format btrfs_format();
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
Format encrypted_image_format();
Format f2fs_format();
Format nilfs_format();
Format apfs_format();
Format jfs_format();
Format reiser_format();
Format ufs_format();
Format minix_format();
Format hfs_classic_format();
Format bfs_format();
Format affs_format();
Format sysv_format();
Format befs_format();
Format qnx4_format();
Format qnx6_format();
Format hpfs_format();
Format squashfs_format();
Format erofs_format();
Format cramfs_format();
Format romfs_format();
Format fat_format();
Format exfat_format();
Format ntfs_format();
Format hfs_format();
Format iso_format();
Format udf_format();

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

Format boot_image_format();
Format device_tree_format();
Format fit_format();
Format android_boot_format();
Format vendor_boot_format();
Format device_upgrade_format();
Format kernel_format();
Format initramfs_format();
Format fip_format();
Format mcuboot_format();
Format option_rom_format();
Format microcode_format();
Format coreboot_format();
Format uefi_format();
Format intel_hex_format();
Format s_record_format();
Format ti_text_format();
Format verilog_hex_format();
Format uf2_format();

Format nand_dump_format();
Format jffs2_format();
Format ubi_format();
Format ubifs_format();
Format yaffs_format();
Format littlefs_format();
Format spiffs_format();

Format gzip_format();
Format zlib_format();
Format bzip2_format();
Format xz_format();
Format lzma_format();
Format odd_lzma_format();
Format deflate_format();
Format zstd_format();
Format lz4_format();
Format lzo_format();
Format chunked_xz_format();
Format compress_format();

// Containers of new entries, for Format::pack.
Assembly pack_zip(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_tar(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_cpio(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_qcow2(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_vhd(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_fat(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_iso(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_squashfs(const std::vector<NewEntry>& entries, const Writing& writing);
Assembly pack_ar(const std::vector<NewEntry>& entries, const Writing& writing);

/// The view with which files of chunks are asked for, and the format that then recognises them.
inline constexpr std::string_view kChunksView = "chunks";
Format asked_riff_format();

/// Not in the registry: cuts the file that is named into these parts.
Format cut_file_format(std::vector<FlashPartition> partitions);
/// Not in the registry: the file that is named is a LUKS volume whose header is in another file. Throws
/// Malformed, Unsupported.
Format told_luks_format(const SourcePtr& header);
/// Not in the registry: the file that is named is the data of a dm-verity hash tree, which is in `hashes`; it
/// is compared as it is read. Throws Malformed, Unsupported.
Format told_verity_format(const SourcePtr& hashes, const std::optional<Bytes>& root);

/// Not in the registry: for files that begin as nothing known, where the user wants them searched.
Format searched_file_format();

}  // namespace operculum
