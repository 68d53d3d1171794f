#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure.h"
#include "base/text.h"
#include "format/filesystem/file_tree.h"
#include "format/volume/bitlocker.h"
#include "format/volume/bitlocker_records.h"

namespace operculum::bitlocker {
namespace {

constexpr std::size_t kBootSector = 512;
constexpr std::string_view kMark = "-FVE-FS-";

std::optional<SealedKey> sealed_in(ByteView value) {
  if (value.size() <= size_on_disk<SealHead>) return std::nullopt;
  auto head = read_structure<SealHead>(value.data());
  ByteView rest = value.subspan(size_on_disk<SealHead>);
  return SealedKey{head.nonce, head.tag, Bytes(rest.begin(), rest.end())};
}

Protector::Kind kind_of(std::uint16_t type) {
  switch (type) {
    case 0x0000:
      return Protector::Kind::clear_key;
    case 0x0200:
      return Protector::Kind::key_file;
    case 0x0800:
      return Protector::Kind::recovery_password;
    case 0x2000:
      return Protector::Kind::password;
    default:
      return Protector::Kind::other;
  }
}

Protector protector_of(ByteView value) {
  Protector out;
  if (value.size() < size_on_disk<MasterKeyHead>) return out;
  auto head = read_structure<MasterKeyHead>(value.data());
  out.id = guid_text(head.identifier);
  out.type = head.protection;
  out.kind = kind_of(head.protection);
  each_entry(value.subspan(size_on_disk<MasterKeyHead>), [&](const EntryHead& entry, ByteView bytes) {
    switch (entry.value_type) {
      case key_value:
        if (bytes.size() > kMethodSize) out.key = Bytes(bytes.begin() + kMethodSize, bytes.end());
        break;
      case stretch_value:
        if (bytes.size() >= kMethodSize + kSaltSize)
          out.salt.assign(bytes.begin() + kMethodSize, bytes.begin() + kMethodSize + kSaltSize);
        break;
      case sealed_value:
        if (!out.master) out.master = sealed_in(bytes);
        break;
      default:
        break;
    }
  });
  return out;
}

void take_entries(ByteView entries, Volume& out) {
  each_entry(entries, [&](const EntryHead& entry, ByteView bytes) {
    if (entry.type == master_key_entry && entry.value_type == master_key_value) {
      out.protectors.push_back(protector_of(bytes));
    } else if (entry.type == volume_key_entry && entry.value_type == sealed_value) {
      out.key = sealed_in(bytes);
    } else if (entry.type == description_entry && entry.value_type == text_value) {
      out.description = std::string(until_zero(to_utf8(as_text(bytes), "UTF-16LE").value_or("")));
    } else if (entry.type == head_entry && bytes.size() >= size_on_disk<HeadPlace>) {
      auto place = read_structure<HeadPlace>(bytes.data());
      out.head_at = place.offset;
      out.head_size = place.size;
    }
  });
}

/// The sum behind the metadata: tells a damaged copy.
void check_sum(const Source& file, std::uint64_t at, const BlockHead& head, const MetadataHead& metadata) {
  constexpr std::uint64_t kUnit = 16, kSumAt = 4;
  std::uint64_t size = head.version == 1 ? head.size : head.size * kUnit;
  if (size < size_on_disk<BlockHead> + metadata.size || size > kMetadataPlace)
    refuse_field("BitLocker metadata", at, &BlockHead::size, "room for the metadata",
                 fmt::format("{}", size));
  Bytes whole = read_exactly(file, at, size + kSumAt + 4, "BitLocker metadata");
  auto stored = load_little<std::uint32_t>(whole.data() + size + kSumAt);
  std::uint32_t own = crc32(0, ByteView(whole).first(size));
  if (!sum_fits(own, stored))
    throw Malformed(fmt::format("BitLocker metadata at offset {}: expected CRC-32 {:08x}, found {:08x}", at,
                                stored, own));
}

Volume read_copy(const Source& file, std::uint64_t at, std::size_t sector) {
  Bytes raw =
      read_exactly(file, at, size_on_disk<BlockHead> + size_on_disk<MetadataHead>, "BitLocker metadata");
  auto head = read_structure<BlockHead>(raw.data());
  auto metadata = read_structure<MetadataHead>(raw.data() + size_on_disk<BlockHead>);
  if (as_text(head.signature) != kMark)
    throw Malformed(fmt::format("BitLocker metadata at offset {}: the mark is missing", at));
  if (head.version == 0 || head.version > 2)
    throw Unsupported(fmt::format("BitLocker metadata of version {}", head.version));
  if (metadata.size < size_on_disk<MetadataHead> || metadata.size > kMetadataPlace)
    refuse_field("BitLocker metadata", at + size_on_disk<BlockHead>, &MetadataHead::size, "48 to 65536",
                 fmt::format("{}", metadata.size));
  check_sum(file, at, head, metadata);
  Volume out;
  out.sector = sector;
  out.size = file.size() / sector * sector;
  out.version = head.version;
  out.id = guid_text(metadata.identifier);
  out.method = static_cast<std::uint16_t>(metadata.method);
  out.made = from_filetime(metadata.created);
  out.encrypted = head.encrypted_size;
  out.metadata_at = {head.first_at, head.second_at, head.third_at};
  out.metadata_size = head.version == 1 ? kFirstMetadataPlace : kMetadataPlace;
  if (head.version == 1) {
    out.mirror_cluster = head.head_at;
  } else {
    out.head_at = head.head_at;
    out.head_size = std::uint64_t{head.head_sectors} * sector;
  }
  std::uint64_t entries = size_on_disk<BlockHead> + size_on_disk<MetadataHead>;
  take_entries(
      read_exactly(file, at + entries, metadata.size - size_on_disk<MetadataHead>, "BitLocker metadata"),
      out);
  if (head.state != encrypted_volume && head.state != decrypted_volume)
    out.warnings.push_back(fmt::format(
        "the volume was being encrypted or decrypted ({} of its bytes are encrypted)", out.encrypted));
  if (head.state == decrypted_volume) out.encrypted = 0;
  return out;
}

}  // namespace

std::optional<Identifier> find_identifier(ByteView boot_sector) {
  constexpr std::string_view kUsual = "4967d63b-2e29-4ad8-8399-f6a339e3d001",
                             kOnWrite = "92a84d3b-dd80-4d0e-9e4e-b1e3284eaed8";
  constexpr std::size_t kMarkAt = 3, kSize = 16, kIdentifierAt = 160, kToGoAt = 424, kFirstVersionAt = 56;
  constexpr Byte kFirstJump = 0x52;
  if (boot_sector.size() < kBootSector) return std::nullopt;
  for (std::size_t at : {kIdentifierAt, kToGoAt}) {
    std::string here = guid_text(boot_sector.subspan(at, kSize));
    if (here == kUsual) return Identifier{Identifier::Kind::usual, at + kSize};
    if (here == kOnWrite) return Identifier{Identifier::Kind::encrypted_on_write, at + kSize};
  }
  // the first version has the place of one copy where a cluster's number was
  if (starts_with(boot_sector.subspan(kMarkAt), kMark) && boot_sector[1] == kFirstJump)
    return Identifier{Identifier::Kind::first_version, kFirstVersionAt};
  return std::nullopt;
}

Volume read_volume(const Source& file) {
  Bytes boot = read_exactly(file, 0, kBootSector, "BitLocker boot sector");
  auto identifier = find_identifier(boot);
  if (!identifier) throw Malformed("BitLocker boot sector: the identifier is missing");
  constexpr std::size_t kSectorAt = 11, kClusterAt = 13, kCopies = 3;
  std::size_t sector = load_little<std::uint16_t>(boot.data() + kSectorAt);
  if (sector < 512 || sector > 4096 || !std::has_single_bit(sector))
    throw Malformed(
        fmt::format("BitLocker boot sector: expected sectors of 512 to 4096 bytes, found {}", sector));
  bool first_version = identifier->kind == Identifier::Kind::first_version;
  std::string wrong;
  for (std::size_t i = 0; i < (first_version ? 1 : kCopies); ++i) {
    auto at = load_little<std::uint64_t>(boot.data() + identifier->places_at + i * sizeof(std::uint64_t));
    if (first_version) at = checked_mul(at, sector * boot[kClusterAt], "the place of BitLocker's metadata");
    try {
      Volume out = read_copy(file, at, sector);
      out.encrypted_on_write = identifier->kind == Identifier::Kind::encrypted_on_write;
      if (!wrong.empty())
        out.warnings.push_back(
            fmt::format("a copy of the metadata is damaged ({}); another was used", wrong));
      return out;
    } catch (const Malformed& error) {
      if (wrong.empty()) wrong = error.what();
    }
  }
  throw Malformed(wrong);
}

}  // namespace operculum::bitlocker
