#pragma once

#include "base/structure.h"

/// The records of QCOW2, with the names of its published format description (interop/qcow2):
///
///   header, of version 3 with a second part | extensions | tables of clusters in two levels, and clusters
///
/// A number of the first table (l1) is the place of a second one, a number of that the place of a cluster, or
/// of its packed bytes. Each cluster of the file has a count of its uses, in blocks that a table of their own
/// leads to.
namespace operculum::qcow2 {

constexpr std::uint32_t kMagic = 0x514649FB;  // "QFI\xfb"
/// In the numbers of tables: where something lies, that nothing else uses it, that it is packed, that it is
/// zeros.
constexpr std::uint64_t kPlaceMask = 0x00FFFFFFFFFFFE00, kCopied = std::uint64_t{1} << 63,
                        kPacked = std::uint64_t{1} << 62, kZeros = 1;

/// The header of version 2, with which version 3 begins, too.
struct HeaderRecord {
  std::uint32_t magic = kMagic, version = 3;
  std::uint64_t backing_file_offset = 0;
  std::uint32_t backing_file_size = 0, cluster_bits = 0;
  std::uint64_t size = 0;
  std::uint32_t crypt_method = 0, l1_size = 0;
  std::uint64_t l1_table_offset = 0, refcount_table_offset = 0;
  std::uint32_t refcount_table_clusters = 0, nb_snapshots = 0;
  std::uint64_t snapshots_offset = 0;
  static constexpr auto layout =
      big_endian(field("magic", &HeaderRecord::magic), field("version", &HeaderRecord::version),
                 field("backing_file_offset", &HeaderRecord::backing_file_offset),
                 field("backing_file_size", &HeaderRecord::backing_file_size),
                 field("cluster_bits", &HeaderRecord::cluster_bits), field("size", &HeaderRecord::size),
                 field("crypt_method", &HeaderRecord::crypt_method), field("l1_size", &HeaderRecord::l1_size),
                 field("l1_table_offset", &HeaderRecord::l1_table_offset),
                 field("refcount_table_offset", &HeaderRecord::refcount_table_offset),
                 field("refcount_table_clusters", &HeaderRecord::refcount_table_clusters),
                 field("nb_snapshots", &HeaderRecord::nb_snapshots),
                 field("snapshots_offset", &HeaderRecord::snapshots_offset));
};
constexpr std::size_t kHeaderSize = size_on_disk<HeaderRecord>;
static_assert(kHeaderSize == 72);
/// How clusters are encrypted (crypt_method).
enum CryptMethod : std::uint32_t { crypt_none = 0, crypt_aes = 1, crypt_luks = 2 };

/// Behind it in version 3.
struct MoreRecord {
  std::uint64_t incompatible_features = 0, compatible_features = 0, autoclear_features = 0;
  std::uint32_t refcount_order = 4, header_length = 104;
  static constexpr auto layout =
      big_endian(field("incompatible_features", &MoreRecord::incompatible_features),
                 field("compatible_features", &MoreRecord::compatible_features),
                 field("autoclear_features", &MoreRecord::autoclear_features),
                 field("refcount_order", &MoreRecord::refcount_order),
                 field("header_length", &MoreRecord::header_length));
};
constexpr std::size_t kHeader3Size = kHeaderSize + size_on_disk<MoreRecord>;
static_assert(kHeader3Size == 104);
constexpr std::size_t kCompressionAt = kHeader3Size;  // a byte, where the header is longer
/// Bits of incompatible_features.
enum Incompatible : std::uint64_t {
  feature_dirty = 1,
  feature_corrupt = 2,
  feature_data_file = 4,
  feature_compression = 8,
  feature_extended_tables = 16,
};

/// In front of each extension, which is filled up to a multiple of 8 bytes.
struct ExtensionHead {
  std::uint32_t type = 0, length = 0;
  static constexpr auto layout = big_endian(field("header extension type", &ExtensionHead::type),
                                            field("length", &ExtensionHead::length));
};
/// Kinds of header extensions that are read.
enum ExtensionType : std::uint32_t { data_file_name = 0x44415441, encryption_header = 0x0537BE77 };

/// What the extension of an encrypted image tells.
struct EncryptionPointer {
  std::uint64_t offset = 0, length = 0;
  static constexpr auto layout =
      big_endian(field("offset", &EncryptionPointer::offset), field("length", &EncryptionPointer::length));
};

/// A snapshot; behind it further data, its id and its name.
struct SnapshotRecord {
  std::uint64_t l1_table_offset = 0;
  std::uint32_t l1_size = 0;
  std::uint16_t id_size = 0, name_size = 0;
  std::uint32_t date_sec = 0, extra_data_size = 0;
  static constexpr auto layout =
      big_endian(field("l1_table_offset", &SnapshotRecord::l1_table_offset),
                 field("l1_size", &SnapshotRecord::l1_size), field("id_str_size", &SnapshotRecord::id_size),
                 field("name_size", &SnapshotRecord::name_size), field("date_sec", &SnapshotRecord::date_sec),
                 from_byte<36>(), field("extra_data_size", &SnapshotRecord::extra_data_size));
};
static_assert(size_on_disk<SnapshotRecord> == 40);

}  // namespace operculum::qcow2
