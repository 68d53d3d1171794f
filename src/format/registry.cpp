#include "format/formats.h"

namespace operculum {

const std::vector<Format>& formats() {
  static const std::vector<Format> all = {
      // a suffix with its checksum stands behind whatever the file is
      device_upgrade_format(),
      // boot sectors of kernels look like those of disks; images of several archives begin as one of them
      kernel_format(),
      initramfs_format(),
      // wrappers before what they may look like at the front, discs and file systems before partition tables
      qcow2_format(),
      vhd_format(),
      vhdx_format(),
      vmdk_format(),
      udif_format(),
      android_sparse_format(),
      ext_format(),
      xfs_format(),
      btrfs_format(),
      squashfs_format(),
      erofs_format(),
      cramfs_format(),
      romfs_format(),
      nand_dump_format(),
      jffs2_format(),
      ubifs_format(),
      yaffs_format(),
      littlefs_format(),
      ubi_format(),
      exfat_format(),
      fat_format(),
      ntfs_format(),
      hfs_format(),
      udf_format(),
      iso_format(),
      gpt_format(),
      apple_map_format(),
      sun_label_format(),
      sgi_label_format(),
      mbr_format(),
      bsd_label_format(),
      atari_table_format(),
      // packages before the archives that they are made of
      msi_format(),
      deb_format(),
      rpm_format(),
      xar_format(),
      wim_format(),
      zip_format(),
      tar_format(),
      cpio_format(),
      cab_format(),
      cfb_format(),
      ar_format(),
      riff_format(),
      // an image tree is a device tree
      fit_format(),
      device_tree_format(),
      boot_image_format(),
      android_boot_format(),
      vendor_boot_format(),
      fip_format(),
      option_rom_format(),
      microcode_format(),
      uf2_format(),
      intel_hex_format(),
      s_record_format(),
      ti_text_format(),
      verilog_hex_format(),
      gzip_format(),
      bzip2_format(),
      xz_format(),
      zstd_format(),
      lz4_format(),
      chunked_xz_format(),
      compress_format(),
      lzma_format(),
      zlib_format(),
      // chips and updates, told by what lies within or behind
      uefi_format(),
      coreboot_format(),
      // programs last: what they carry may be an archive first of all
      pe_format(),
      carrier_format(),
  };
  return all;
}

}  // namespace operculum
