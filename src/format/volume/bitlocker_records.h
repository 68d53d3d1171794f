#pragma once

#include "base/structure.h"

namespace operculum::bitlocker {

// What lies on disk. A block of metadata is a BlockHead, a MetadataHead, and entries, each an EntryHead and a
// value; values of keys hold entries again. A key file is a MetadataHead and entries.

/// In front of each copy of the metadata.
struct BlockHead {
  std::array<Byte, 8> signature{};
  std::uint16_t size = 0;  ///< up to the sum, in units of 16 bytes; of the first version in bytes
  std::uint16_t version = 0, state = 0, next_state = 0;
  std::uint64_t encrypted_size = 0;
  std::uint32_t convert_size = 0, head_sectors = 0;
  std::uint64_t first_at = 0, second_at = 0, third_at = 0;
  std::uint64_t head_at = 0;  ///< of the first version the cluster of the master file table's mirror
  static constexpr auto layout = little_endian(
      field("signature", &BlockHead::signature), field("size", &BlockHead::size),
      field("version", &BlockHead::version), field("current state", &BlockHead::state),
      field("next state", &BlockHead::next_state), field("encrypted volume size", &BlockHead::encrypted_size),
      field("convert size", &BlockHead::convert_size),
      field("number of volume header sectors", &BlockHead::head_sectors),
      field("first metadata block offset", &BlockHead::first_at),
      field("second metadata block offset", &BlockHead::second_at),
      field("third metadata block offset", &BlockHead::third_at),
      field("volume header offset", &BlockHead::head_at));
};
/// What of the volume is encrypted.
enum State : std::uint16_t { decrypted_volume = 1, encrypted_volume = 4 };

/// In front of the entries.
struct MetadataHead {
  std::uint32_t size = 0;  ///< with this head, in bytes
  std::uint32_t version = 0, head_size = 0, size_copy = 0;
  std::array<Byte, 16> identifier{};
  std::uint32_t next_nonce = 0, method = 0;
  std::uint64_t created = 0;
  static constexpr auto layout = little_endian(
      field("metadata size", &MetadataHead::size), field("version", &MetadataHead::version),
      field("metadata header size", &MetadataHead::head_size),
      field("metadata size copy", &MetadataHead::size_copy),
      field("volume identifier", &MetadataHead::identifier),
      field("next nonce counter", &MetadataHead::next_nonce),
      field("encryption method", &MetadataHead::method), field("creation time", &MetadataHead::created));
};

/// In front of each entry's value.
struct EntryHead {
  std::uint16_t size = 0;  ///< with this head, in bytes
  std::uint16_t type = 0, value_type = 0, version = 0;
  static constexpr auto layout =
      little_endian(field("entry size", &EntryHead::size), field("entry type", &EntryHead::type),
                    field("value type", &EntryHead::value_type), field("version", &EntryHead::version));
};
/// What an entry is for.
enum EntryType : std::uint16_t {
  master_key_entry = 2,
  volume_key_entry = 3,
  description_entry = 7,
  head_entry = 15
};
/// What an entry's value is.
enum ValueType : std::uint16_t {
  key_value = 1,
  text_value = 2,
  stretch_value = 3,
  sealed_value = 5,
  master_key_value = 8,
  external_key_value = 9
};

/// In front of a master key's entries.
struct MasterKeyHead {
  std::array<Byte, 16> identifier{};
  std::uint64_t changed = 0;
  std::uint16_t unknown = 0, protection = 0;
  static constexpr auto layout = little_endian(
      field("key identifier", &MasterKeyHead::identifier), field("last change", &MasterKeyHead::changed),
      field("unknown", &MasterKeyHead::unknown), field("protection type", &MasterKeyHead::protection));
};

/// In front of the entries of a key in a file.
struct ExternalKeyHead {
  std::array<Byte, 16> identifier{};
  std::uint64_t changed = 0;
  static constexpr auto layout = little_endian(field("key identifier", &ExternalKeyHead::identifier),
                                               field("last change", &ExternalKeyHead::changed));
};

/// In front of what AES-CCM sealed.
struct SealHead {
  std::array<Byte, 12> nonce{};
  std::array<Byte, 16> tag{};
  static constexpr auto layout =
      little_endian(field("nonce", &SealHead::nonce), field("authentication tag", &SealHead::tag));
};

/// Where the first sectors of the volume are.
struct HeadPlace {
  std::uint64_t offset = 0, size = 0;
  static constexpr auto layout =
      little_endian(field("offset", &HeadPlace::offset), field("size", &HeadPlace::size));
};

constexpr std::size_t kMethodSize = 4;  ///< in front of a key, and of a salt
constexpr std::size_t kSaltSize = 16;
constexpr std::size_t kOpenedHead = 12;  ///< in front of a key that was sealed: its size, version and method
constexpr std::uint64_t kMetadataPlace = 64 << 10, kFirstMetadataPlace = 16 << 10;

/// Calls `take(entry, value)` for each entry; what stands behind a broken one is not there.
template <typename Take>
void each_entry(ByteView bytes, Take take) {
  while (bytes.size() >= size_on_disk<EntryHead>) {
    auto head = read_structure<EntryHead>(bytes.data());
    if (head.size < size_on_disk<EntryHead> || head.size > bytes.size()) return;
    take(head, bytes.subspan(size_on_disk<EntryHead>, head.size - size_on_disk<EntryHead>));
    bytes = bytes.subspan(head.size);
  }
}

}  // namespace operculum::bitlocker
