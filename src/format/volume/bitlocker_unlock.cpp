#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <memory>

#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "cipher/disk_cipher.h"
#include "cipher/key_derivation.h"
#include "format/filesystem/file_tree.h"
#include "format/volume/bitlocker.h"
#include "format/volume/bitlocker_records.h"
#include "io/extent_source.h"

namespace operculum::bitlocker {
namespace {

constexpr std::size_t kHash = 32;
constexpr std::uint64_t kRounds = 0x100000;  ///< of stretching a password

struct Method {
  std::uint16_t number;
  std::string_view name, cipher;
  std::size_t key_size;                   ///< bytes, at the front of what was sealed
  std::size_t second_at = 0, second = 0;  ///< of the diffuser
};
constexpr Method kMethods[] = {
    {0x8000, "AES in CBC mode, 128 bits, with diffuser", "aes-cbc-elephant", 16, 32, 16},
    {0x8001, "AES in CBC mode, 256 bits, with diffuser", "aes-cbc-elephant", 32, 32, 32},
    {0x8002, "AES in CBC mode, 128 bits", "aes-cbc-eboiv", 16},
    {0x8003, "AES in CBC mode, 256 bits", "aes-cbc-eboiv", 32},
    {0x8004, "AES in XTS mode, 128 bits", "aes-xts-plain64", 32},
    {0x8005, "AES in XTS mode, 256 bits", "aes-xts-plain64", 64},
};

const Method* find_method(std::uint16_t number) {
  const auto* found = std::find_if(std::begin(kMethods), std::end(kMethods),
                                   [&](const Method& one) { return one.number == number; });
  return found == std::end(kMethods) ? nullptr : found;
}

/// A million rounds of SHA-256 over the last hash, the first one, a salt and the round's number.
Secret stretch(const Secret& first, ByteView salt) {
  Secret block(2 * kHash + kSaltSize + 8);
  std::copy_n(first.view().begin(), kHash, block.span().begin() + kHash);
  std::copy_n(salt.begin(), kSaltSize, block.span().begin() + 2 * kHash);
  std::unique_ptr<EVP_MD, void (*)(EVP_MD*)> digest(EVP_MD_fetch(nullptr, "SHA256", nullptr), EVP_MD_free);
  std::unique_ptr<EVP_MD_CTX, void (*)(EVP_MD_CTX*)> context(EVP_MD_CTX_new(), EVP_MD_CTX_free);
  if (!digest || !context) throw std::bad_alloc();
  for (std::uint64_t round = 0; round < kRounds; ++round) {
    store_number(block.span().data() + 2 * kHash + kSaltSize, 8, round);
    // what comes out becomes the front of what goes in next
    if (EVP_DigestInit_ex(context.get(), digest.get(), nullptr) != 1 ||
        EVP_DigestUpdate(context.get(), block.view().data(), block.size()) != 1 ||
        EVP_DigestFinal_ex(context.get(), block.span().data(), nullptr) != 1)
      throw Unsupported("SHA-256");
  }
  Secret out(kHash);
  std::copy_n(block.view().begin(), kHash, out.span().begin());
  return out;
}

/// Of a password: its hash's hash.
std::optional<Secret> password_hash(const std::string& password) {
  auto wide = from_utf8(password, "UTF-16LE");
  if (!wide) return std::nullopt;
  return hash_of("sha256", hash_of("sha256", as_bytes(*wide)).view());
}

/// Of a recovery password: eight groups of six digits, each a number of 16 bits times 11.
std::optional<Secret> recovery_hash(const std::string& password) {
  constexpr std::size_t kGroups = 8, kDigits = 6;
  std::string digits;
  for (char c : password) {
    if (c >= '0' && c <= '9')
      digits += c;
    else if (c != '-' && c != ' ')
      return std::nullopt;
  }
  if (digits.size() != kGroups * kDigits) return std::nullopt;
  Secret numbers(kGroups * 2);
  for (std::size_t i = 0; i < kGroups; ++i) {
    std::uint64_t group = *parse_number(std::string_view(digits).substr(i * kDigits, kDigits));
    if (group % 11 != 0 || group / 11 > UINT16_MAX) return std::nullopt;
    store_number(numbers.span().data() + i * 2, 2, group / 11);
  }
  return hash_of("sha256", numbers.view());
}

bool is_key_file(ByteView file) {
  if (file.size() < size_on_disk<MetadataHead>) return false;
  auto head = read_structure<MetadataHead>(file.data());
  return head.size == file.size() && head.size_copy == head.size &&
         head.head_size == size_on_disk<MetadataHead>;
}

/// The key in a key file that is meant for the protector.
std::optional<Bytes> file_key(ByteView file, const std::string& protector) {
  std::optional<Bytes> out;
  each_entry(file.subspan(size_on_disk<MetadataHead>), [&](const EntryHead& entry, ByteView value) {
    if (entry.value_type != external_key_value || value.size() < size_on_disk<ExternalKeyHead>) return;
    auto key = read_structure<ExternalKeyHead>(value.data());
    if (guid_text(key.identifier) != protector) return;
    each_entry(value.subspan(size_on_disk<ExternalKeyHead>), [&](const EntryHead& part, ByteView bytes) {
      if (part.value_type == key_value && bytes.size() == kMethodSize + kHash)
        out = Bytes(bytes.begin() + kMethodSize, bytes.end());
    });
  });
  return out;
}

/// What was sealed, without what stands in front of the key.
std::optional<Secret> open_sealed(const SealedKey& sealed, ByteView key) {
  if (key.size() != kHash) return std::nullopt;
  auto opened = open_ccm(key, sealed.nonce, sealed.tag, sealed.sealed);
  if (!opened || opened->size() <= kOpenedHead) return std::nullopt;
  Secret out(opened->size() - kOpenedHead);
  std::copy_n(opened->view().begin() + kOpenedHead, out.size(), out.span().begin());
  return out;
}

/// The master key, where the secret is what the protector wants.
std::optional<Secret> master_key(const Protector& protector, const std::string& secret,
                                 DerivationBudget& budget) {
  if (!protector.master) return std::nullopt;
  if (is_key_file(as_bytes(secret))) {
    auto key =
        protector.kind == Protector::Kind::key_file ? file_key(as_bytes(secret), protector.id) : std::nullopt;
    return key ? open_sealed(*protector.master, *key) : std::nullopt;
  }
  std::optional<Secret> hash = recovery_hash(secret);
  Protector::Kind kind = hash ? Protector::Kind::recovery_password : Protector::Kind::password;
  if (!hash) hash = password_hash(secret);
  if (protector.kind != kind || !hash || protector.salt.size() != kSaltSize) return std::nullopt;
  budget.spend(kRounds);
  return open_sealed(*protector.master, stretch(*hash, protector.salt).view());
}

Secret volume_key(const Volume& volume, const Secret& master) {
  if (!volume.key) throw Malformed("BitLocker metadata: the volume's key is missing");
  auto key = open_sealed(*volume.key, master.view());
  if (!key) throw Malformed("BitLocker metadata: the master key is right, but the volume's key is damaged");
  return std::move(*key);
}

/// A part of the volume within, and where its bytes are.
struct Part {
  enum class From { encrypted, plain, zeros } from;
  std::uint64_t begin, end;  ///< bytes
  std::uint64_t at = 0;      ///< in the file
};

/// Puts a part over those that are there.
void put(std::vector<Part>& parts, const Part& over) {
  std::vector<Part> out;
  for (Part one : parts) {
    if (one.end <= over.begin || one.begin >= over.end) {
      out.push_back(one);
      continue;
    }
    if (one.begin < over.begin) out.push_back({one.from, one.begin, over.begin, one.at});
    if (one.end > over.end) out.push_back({one.from, over.end, one.end, one.at + (over.end - one.begin)});
  }
  out.push_back(over);
  std::sort(out.begin(), out.end(), [](const Part& a, const Part& b) { return a.begin < b.begin; });
  parts = std::move(out);
}

std::vector<Part> parts_of(const Volume& volume) {
  std::uint64_t encrypted = std::min(volume.encrypted, volume.size) / volume.sector * volume.sector;
  std::vector<Part> out;
  if (encrypted > 0) out.push_back({Part::From::encrypted, 0, encrypted, 0});
  if (encrypted < volume.size) out.push_back({Part::From::plain, encrypted, volume.size, encrypted});
  auto zeros = [&](std::uint64_t at, std::uint64_t size) {
    std::uint64_t end = at > volume.size ? volume.size : at + std::min(size, volume.size - at);
    if (at < end) put(out, {Part::From::zeros, at, end});
  };
  for (std::uint64_t at : volume.metadata_at) zeros(at, volume.metadata_size);
  if (volume.mirror_cluster) {
    constexpr std::uint64_t kPlainSectors = 16;  // of the first version
    put(out, {Part::From::plain, 0, std::min(volume.size, kPlainSectors * volume.sector), 0});
  } else if (volume.head_size > 0) {
    if (volume.head_size > volume.size || volume.head_at > volume.size - volume.head_size ||
        volume.head_size % volume.sector != 0 || volume.head_at % volume.sector != 0)
      throw Malformed(
          fmt::format("BitLocker metadata: the first {} bytes of the volume are said to be at offset {}, "
                      "beyond its {} bytes",
                      volume.head_size, volume.head_at, volume.size));
    zeros(volume.head_at, volume.head_size);
    put(out, {volume.head_at < volume.encrypted ? Part::From::encrypted : Part::From::plain, 0,
              volume.head_size, volume.head_at});
  }
  return out;
}

/// The boot sector of the first version as it was before: the file system's name, and a cluster's number that
/// the metadata's place took.
Bytes first_boot_sector(const Source& file, std::uint64_t mirror_cluster, std::size_t sector) {
  constexpr std::size_t kMirrorAt = 56;
  constexpr std::string_view kName = "NTFS    ";
  Bytes out = read_exactly(file, 0, sector, "BitLocker boot sector");
  std::copy(kName.begin(), kName.end(), out.begin() + 3);
  store_number(out.data() + kMirrorAt, 8, mirror_cluster);
  return out;
}

}  // namespace

std::string method_name(std::uint16_t method) {
  const Method* known = find_method(method);
  return known ? std::string(known->name) : fmt::format("method {:#06x}", method);
}

std::string protector_name(const Protector& protector) {
  struct Name {
    std::uint16_t type;
    std::string_view name;
  };
  constexpr Name kNames[] = {{0x0000, "none (its key lies open)"},
                             {0x0100, "security chip"},
                             {0x0200, "key file"},
                             {0x0400, "security chip and key file"},
                             {0x0500, "security chip and PIN"},
                             {0x0800, "recovery password"},
                             {0x1000, "smart card"},
                             {0x2000, "password"}};
  const auto* known = std::find_if(std::begin(kNames), std::end(kNames),
                                   [&](const Name& one) { return one.type == protector.type; });
  return known == std::end(kNames) ? fmt::format("type {:#06x}", protector.type) : std::string(known->name);
}

Secret unlock(const Volume& volume, KeyRing& keys, const std::string& name) {
  if (volume.encrypted_on_write)
    throw Unsupported("BitLocker volumes that are encrypted as they are written to");
  bool by_secret = false;
  for (const Protector& one : volume.protectors) {
    if (one.kind == Protector::Kind::clear_key && one.key && one.master) {
      if (auto master = open_sealed(*one.master, *one.key)) return volume_key(volume, *master);
    }
    by_secret |= one.kind != Protector::Kind::clear_key && one.kind != Protector::Kind::other;
  }
  if (!by_secret) {
    std::vector<std::string> names;
    for (const Protector& one : volume.protectors) names.push_back(protector_name(one));
    throw Unsupported(
        fmt::format("BitLocker volumes without a password or key file ({})",
                    names.empty() ? "no protectors" : fmt::format("{}", fmt::join(names, ", "))));
  }
  std::optional<Secret> found;
  keys.find(name, [&](const std::string& secret) {
    DerivationBudget budget;
    for (const Protector& one : volume.protectors) {
      if (auto master = master_key(one, secret, budget)) {
        found = volume_key(volume, *master);
        return KeyRing::Fit::yes;
      }
    }
    return KeyRing::Fit::no;
  });
  return std::move(*found);
}

SourcePtr decrypt(const SourcePtr& file, const Volume& volume, const Secret& key) {
  const Method* method = find_method(volume.method);
  if (method == nullptr)
    throw Unsupported(fmt::format("BitLocker volumes encrypted with {}", method_name(volume.method)));
  if (key.size() < std::max(method->key_size, method->second_at + method->second))
    throw Malformed(fmt::format("BitLocker metadata: the volume's key has {} bytes, too few for {}",
                                key.size(), method->name));
  Secret joined(method->key_size + method->second);
  std::copy_n(key.view().begin(), method->key_size, joined.span().begin());
  std::copy_n(key.view().begin() + static_cast<std::ptrdiff_t>(method->second_at), method->second,
              joined.span().begin() + static_cast<std::ptrdiff_t>(method->key_size));
  std::string cipher(method->cipher);
  if (cipher == "aes-xts-plain64") cipher += fmt::format(":{}", volume.sector);
  auto disk = make_disk_cipher(cipher, joined.view(), volume.sector);
  std::vector<SourcePtr> out;
  for (const Part& part : parts_of(volume)) {
    std::uint64_t size = part.end - part.begin;
    switch (part.from) {
      case Part::From::encrypted:
        out.push_back(make_decrypted(file, part.at, size, disk, volume.sector, part.at / 512));
        break;
      case Part::From::plain:
        out.push_back(make_slice(file, part.at, size));
        break;
      case Part::From::zeros:
        out.push_back(make_extent_source(file, {}, size));
        break;
    }
  }
  SourcePtr whole = make_joined(std::move(out));
  if (!volume.mirror_cluster || whole->size() < volume.sector) return whole;
  return make_joined({make_memory_source(first_boot_sector(*file, *volume.mirror_cluster, volume.sector)),
                      make_slice(whole, volume.sector, whole->size() - volume.sector)});
}

}  // namespace operculum::bitlocker
