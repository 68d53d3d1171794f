#pragma once

#include <string>
#include <vector>

#include "codec/block.h"
#include "support/byte_writer.h"

namespace operculum::test {

/// A partition to be: its bytes, and what the table says of it.
struct DiskPart {
  Bytes data;
  std::string name = {};
  std::string type = "0fc63daf-8483-4772-8e79-3d69d8477de4";  ///< GPT: a GUID; Apple: a word
  unsigned mbr_type = 0x83;
};

/// Partitions begin at multiples of 64 KiB, which leaves gaps. Sectors of 512 or 4096 bytes.
Bytes make_gpt(const std::vector<DiskPart>& parts, std::size_t sector = 512);
/// Three primary partitions; what is more lies in an extended one.
Bytes make_mbr(const std::vector<DiskPart>& parts);
Bytes make_apple_map(const std::vector<DiskPart>& parts);

/// What a wrapper is made from: the disk, and for a differencing image the disk that it is based on.
struct WrapOptions {
  BlockCodec codec = BlockCodec::stored;  ///< of clusters, where the wrapper packs them
  unsigned version = 3;                   ///< QCOW2
  std::string parent = {};                ///< name of the parent image
  Bytes parent_disk = {};                 ///< blocks equal to it are left out
  std::string snapshot = {};              ///< QCOW2: the name of one
};

Bytes make_qcow2(const Bytes& disk, const WrapOptions& options = {});
Bytes make_vhd_fixed(const Bytes& disk);
Bytes make_vhd(const Bytes& disk,
               const WrapOptions& options = {});  ///< dynamic, or differencing with a parent
Bytes make_vhdx(const Bytes& disk, const WrapOptions& options = {});
Bytes make_vmdk(const Bytes& disk, const WrapOptions& options = {});  ///< monolithic sparse
Bytes make_vmdk_stream(const Bytes& disk);                            ///< stream-optimised
Bytes make_udif(const Bytes& disk, BlockCodec codec, bool adc = false);
/// `from` and `to` choose blocks of 4096 bytes, for the parts of a split image; the rest is left out.
Bytes make_android_sparse(const Bytes& disk, std::size_t from = 0, std::size_t to = SIZE_MAX);

/// A GUID as it is stored, from its text.
Bytes guid(std::string_view text);

}  // namespace operculum::test
