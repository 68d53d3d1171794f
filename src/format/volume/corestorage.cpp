#include "format/volume/corestorage.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/checked.h"
#include "base/checksum.h"
#include "base/structure.h"
#include "base/text.h"
#include "cipher/disk_cipher.h"
#include "cipher/key_derivation.h"
#include "codec/block.h"
#include "format/filesystem/file_tree.h"
#include "format/property_list.h"

namespace operculum::corestorage {
namespace {

constexpr std::size_t kSector = 512, kMetadataBlock = 8192, kUnit = 512;
constexpr std::uint64_t kSeed = 0xFFFFFFFF;

/// What each structure begins with: the sum is of what follows it, and of the seed.
struct BlockHead {
  std::uint32_t checksum = 0, seed = 0;
  std::uint16_t version = 0, type = 0;
  static constexpr auto layout =
      little_endian(field("checksum", &BlockHead::checksum), field("checksum seed", &BlockHead::seed),
                    field("version", &BlockHead::version), field("block type", &BlockHead::type));
};
enum Type : std::uint16_t {
  volume_head_block = 0x10,
  label_block = 0x11,
  family_block = 0x19,
  logical_volume_block = 0x1A,
  places_block = 0x305,
};

struct VolumeHead {
  std::uint64_t physical_size = 0;
  std::array<Byte, 2> magic{};
  std::uint32_t checksum_algorithm = 0, block_size = 0, metadata_size = 0;
  std::uint64_t first_at = 0, second_at = 0, third_at = 0, fourth_at = 0;
  std::uint32_t key_data_size = 0, cipher = 0;
  std::array<Byte, 16> key_data{}, physical_id{}, group_id{};
  static constexpr std::string_view mark = "CS";
  static constexpr auto layout = little_endian(
      from_byte<64>(), field("physical volume size", &VolumeHead::physical_size), from_byte<88>(),
      field("signature", &VolumeHead::magic), field("checksum algorithm", &VolumeHead::checksum_algorithm),
      from_byte<96>(), field("block size", &VolumeHead::block_size),
      field("metadata size", &VolumeHead::metadata_size),
      field("first metadata block number", &VolumeHead::first_at),
      field("second metadata block number", &VolumeHead::second_at),
      field("third metadata block number", &VolumeHead::third_at),
      field("fourth metadata block number", &VolumeHead::fourth_at), from_byte<168>(),
      field("key data size", &VolumeHead::key_data_size), field("encryption method", &VolumeHead::cipher),
      field("key data", &VolumeHead::key_data), from_byte<304>(),
      field("physical volume identifier", &VolumeHead::physical_id),
      field("logical volume group identifier", &VolumeHead::group_id));
};

/// Where the label says that the description of the group is, from the label on.
constexpr std::size_t kDescriptionAt = 220;

struct GroupDescription {
  std::uint64_t blocks = 0, at = 0;
  static constexpr auto layout =
      little_endian(from_byte<8>(), field("number of encrypted metadata blocks", &GroupDescription::blocks),
                    from_byte<32>(), field("encrypted metadata block number", &GroupDescription::at));
};

/// In front of a property list; places count from the block's begin.
struct ListHead {
  std::uint32_t packed = 0, unpacked = 0, at = 0, size = 0;
  static constexpr auto layout = little_endian(
      field("compressed size", &ListHead::packed), field("uncompressed size", &ListHead::unpacked),
      field("XML plist offset", &ListHead::at), field("XML plist size", &ListHead::size));
};
constexpr std::size_t kFamilyListAt = 104, kVolumeListAt = 120;

struct Place {
  std::uint32_t blocks = 0;
  std::uint64_t logical = 0, physical = 0;
  static constexpr std::size_t first_at = 72, size = 40;  ///< of the first one in its block; of each
  static constexpr auto layout = little_endian(
      from_byte<16>(), field("number of blocks", &Place::blocks), from_byte<24>(),
      field("logical block number", &Place::logical), field("physical block number", &Place::physical));
};

/// A passphrase's wrapping of the key that wraps the volume's.
struct WrappedByPassphrase {
  std::uint32_t salt_size = 0, key_size = 0, rounds = 0;
  std::array<Byte, 16> salt{};
  std::array<Byte, 24> key{};
  static constexpr auto layout =
      little_endian(from_byte<4>(), field("salt size", &WrappedByPassphrase::salt_size),
                    field("salt", &WrappedByPassphrase::salt), from_byte<28>(),
                    field("wrapped key size", &WrappedByPassphrase::key_size),
                    field("wrapped key", &WrappedByPassphrase::key), from_byte<168>(),
                    field("number of iterations", &WrappedByPassphrase::rounds));
};

struct WrappedVolumeKey {
  std::uint32_t key_size = 0;
  std::array<Byte, 24> key{};
  static constexpr auto layout =
      little_endian(from_byte<4>(), field("wrapped key size", &WrappedVolumeKey::key_size),
                    field("wrapped key", &WrappedVolumeKey::key));
};

bool sum_is_right(ByteView block) {
  auto head = read_structure<BlockHead>(block.data());
  return head.seed == kSeed && sum_fits(crc32c(head.seed, block.subspan(8)), head.checksum);
}

/// A property list as the kernel writes it: a value that was there already is named by its number.
class List {
 public:
  explicit List(std::string_view xml) {
    pugi::xml_parse_result parsed = document_.load_buffer(xml.data(), xml.size());
    if (!parsed)
      throw Malformed(
          fmt::format("CoreStorage property list: {} at byte {}", parsed.description(), parsed.offset));
    collect(document_.document_element(), 0);
  }

  pugi::xml_node root() const { return document_.document_element(); }

  pugi::xml_node resolve(pugi::xml_node node) const {
    if (std::string_view(node.name()) != "reference") return node;
    auto found = by_id_.find(node.attribute("IDREF").value());
    return found == by_id_.end() ? pugi::xml_node() : found->second;
  }

  pugi::xml_node value(pugi::xml_node dictionary, std::string_view key) const {
    return resolve(value_of(dictionary, key));
  }

  std::string text(pugi::xml_node dictionary, std::string_view key) const {
    return value(dictionary, key).text().get();
  }

  std::uint64_t number(pugi::xml_node dictionary, std::string_view key) const {
    std::string digits = text(dictionary, key);
    bool hex = digits.starts_with("0x");
    return parse_number(std::string_view(digits).substr(hex ? 2 : 0), hex ? 16 : 10).value_or(0);
  }

 private:
  void collect(pugi::xml_node node, int depth) {
    constexpr int kDeepest = 64;
    if (depth > kDeepest) throw Malformed("CoreStorage property list: it is nested too deeply");
    if (const char* id = node.attribute("ID").value(); *id != '\0') by_id_[id] = node;
    for (pugi::xml_node child : node.children()) collect(child, depth + 1);
  }

  pugi::xml_document document_;
  std::map<std::string, pugi::xml_node> by_id_;
};

std::string list_text(ByteView block, std::size_t head_at) {
  auto head = read_structure<ListHead>(block.data() + head_at);
  if (head.at > block.size() || head.size > block.size() - head.at)
    refuse_field("CoreStorage metadata", head_at, &ListHead::size,
                 fmt::format("at most {} bytes", block.size()), fmt::format("{} at {}", head.size, head.at));
  ByteView stored = block.subspan(head.at, head.size);
  if (head.packed == head.unpacked) return std::string(as_text(stored));
  constexpr std::uint32_t kLargest = 4 << 20;
  if (head.unpacked > kLargest)
    refuse_field("CoreStorage metadata", head_at, &ListHead::unpacked, "at most 4 MiB",
                 fmt::format("{}", head.unpacked));
  Bytes out(head.unpacked);
  out.resize(decode_block(BlockCodec::zlib, stored, out));
  return std::string(as_text(out));
}

void take_users(const List& list, pugi::xml_node context, Volume& out) {
  for (pugi::xml_node user : list.value(context, "CryptoUsers").children("dict")) {
    Bytes raw = from_base64(list.text(user, "PassphraseWrappedKEKStruct"));
    if (raw.size() < size_on_disk<WrappedByPassphrase>) continue;
    auto wrapped = read_structure<WrappedByPassphrase>(raw.data());
    if (wrapped.salt_size != wrapped.salt.size() || wrapped.key_size != wrapped.key.size()) {
      out.warnings.push_back(
          fmt::format("one who can unlock it is passed over: a salt of {} bytes and a key of {}",
                      wrapped.salt_size, wrapped.key_size));
      continue;
    }
    out.users.push_back({list.text(user, "UserIdent"), wrapped.rounds,
                         Bytes(wrapped.salt.begin(), wrapped.salt.end()),
                         Bytes(wrapped.key.begin(), wrapped.key.end())});
  }
}

void take_family(const List& list, Volume& out) {
  pugi::xml_node context = list.value(list.root(), "com.apple.corestorage.lvf.encryption.context");
  out.family_id = list.text(list.root(), "com.apple.corestorage.lvf.uuid");
  out.status = list.text(list.value(context, "ConversionInfo"), "ConversionStatus");
  out.users.clear();
  out.wrapped_key.clear();
  take_users(list, context, out);
  for (pugi::xml_node key : list.value(context, "WrappedVolumeKeys").children("dict")) {
    Bytes raw = from_base64(list.text(key, "KEKWrappedVolumeKeyStruct"));
    if (list.text(key, "BlockAlgorithm") != "AES-XTS" || raw.size() < size_on_disk<WrappedVolumeKey>)
      continue;
    auto wrapped = read_structure<WrappedVolumeKey>(raw.data());
    if (wrapped.key_size == wrapped.key.size())
      out.wrapped_key.assign(wrapped.key.begin(), wrapped.key.end());
  }
  out.encrypted = !out.wrapped_key.empty();
}

void take_volume(const List& list, Volume& out) {
  constexpr std::string_view kFront = "com.apple.corestorage.lv.";
  auto key = [&](std::string_view name) { return std::string(kFront) + std::string(name); };
  std::string id = list.text(list.root(), key("uuid"));
  if (!out.id.empty() && out.id != id) throw Unsupported("CoreStorage groups of several logical volumes");
  out.id = id;
  out.name = list.text(list.root(), key("name"));
  out.size = list.number(list.root(), key("size"));
}

void take_places(ByteView block, std::uint64_t block_size, Volume& out) {
  constexpr std::size_t kCountAt = 64;
  std::size_t count = load_little<std::uint32_t>(block.data() + kCountAt);
  constexpr std::size_t kMost = (kMetadataBlock - Place::first_at) / Place::size;
  if (count > kMost)
    throw Malformed(fmt::format("CoreStorage metadata: expected at most {} places, found {}", kMost, count));
  for (std::size_t i = 0; i < count; ++i) {
    auto one = read_structure<Place>(block.data() + Place::first_at + i * Place::size);
    constexpr const char* kWhat = "a place in CoreStorage's metadata";
    if (one.physical >> 48 != 0) throw Unsupported("CoreStorage groups of several physical volumes");
    out.runs.push_back({checked_mul(one.logical, block_size, kWhat),
                        checked_mul(one.physical, block_size, kWhat), one.blocks * block_size});
  }
}

GroupDescription read_description(const Source& file, const VolumeHead& head) {
  std::string wrong;
  for (std::uint64_t number : {head.first_at, head.second_at, head.third_at, head.fourth_at}) {
    try {
      std::uint64_t at = checked_mul(number, head.block_size, "the place of CoreStorage's metadata");
      Bytes label = read_exactly(file, at, kMetadataBlock, "CoreStorage label");
      if (read_structure<BlockHead>(label.data()).type != label_block || !sum_is_right(label))
        throw Malformed(
            fmt::format("CoreStorage label at offset {}: its type or its checksum does not fit", at));
      auto offset = load_little<std::uint32_t>(label.data() + kDescriptionAt);
      return read_structure<GroupDescription>(
          read_exactly(file, at + offset, size_on_disk<GroupDescription>, "CoreStorage group").data());
    } catch (const Malformed& error) {
      if (wrong.empty()) wrong = error.what();
    }
  }
  throw Malformed(wrong);
}

/// Later blocks come later in time: what they say counts.
void read_blocks(const Source& file, const VolumeHead& head, const GroupDescription& where, Volume& out) {
  constexpr std::uint64_t kMostBlocks = 1 << 17;
  if (where.blocks > kMostBlocks)
    throw LimitExceeded(fmt::format("CoreStorage: {} blocks of metadata are more than the {} that are read",
                                    where.blocks, kMostBlocks));
  Secret key(head.key_data.size() + head.physical_id.size());
  std::copy(head.physical_id.begin(), head.physical_id.end(),
            std::copy(head.key_data.begin(), head.key_data.end(), key.span().begin()));
  auto cipher =
      make_disk_cipher(fmt::format("aes-xts-plain64:{}", kMetadataBlock), key.view(), kMetadataBlock);
  std::uint64_t begin = checked_mul(where.at, head.block_size, "the place of CoreStorage's metadata");
  Bytes block(kMetadataBlock);
  for (std::uint64_t i = 0; i < where.blocks; ++i) {
    std::uint64_t at = begin + i * kMetadataBlock;
    if (std::uint64_t hole = file.hole_at(at); hole >= kMetadataBlock) continue;
    if (file.read_at(at, block) < block.size()) break;
    if (std::all_of(block.begin(), block.end(), [](Byte b) { return b == 0; })) continue;
    cipher->decrypt(i * (kMetadataBlock / kUnit), block);
    if (!sum_is_right(block)) continue;  // what is not in use
    switch (read_structure<BlockHead>(block.data()).type) {
      case family_block:
        take_family(List(list_text(block, kFamilyListAt)), out);
        break;
      case logical_volume_block:
        take_volume(List(list_text(block, kVolumeListAt)), out);
        break;
      case places_block:
        out.runs.clear();
        take_places(block, head.block_size, out);
        break;
      default:
        break;
    }
  }
}

}  // namespace

bool is_head(ByteView sector) {
  if (sector.size() < kSector) return false;
  auto head = read_structure<VolumeHead>(sector.data());
  return as_text(head.magic) == VolumeHead::mark &&
         read_structure<BlockHead>(sector.data()).type == volume_head_block &&
         sum_is_right(sector.first(kSector));
}

Volume read_volume(const Source& file) {
  Bytes raw = read_exactly(file, 0, kSector, "CoreStorage head");
  if (!is_head(raw)) throw Malformed("CoreStorage head: its mark or its checksum does not fit");
  auto head = read_structure<VolumeHead>(raw.data());
  constexpr std::uint32_t kAesXts = 2;
  if (head.block_size < kSector || head.block_size > (1 << 20) || head.block_size % kSector != 0)
    refuse_field("CoreStorage head", 0, &VolumeHead::block_size, "512 bytes to 1 MiB",
                 fmt::format("{}", head.block_size));
  if (head.cipher != kAesXts || head.key_data_size != head.key_data.size())
    throw Unsupported(fmt::format("CoreStorage metadata encrypted with method {}", head.cipher));
  Volume out;
  out.physical_id = uuid_text(head.physical_id);
  out.group_id = uuid_text(head.group_id);
  read_blocks(file, head, read_description(file, head), out);
  if (out.id.empty() || out.runs.empty())
    throw Malformed("CoreStorage metadata: there is no logical volume in them");
  std::sort(out.runs.begin(), out.runs.end(),
            [](const Run& a, const Run& b) { return a.logical < b.logical; });
  std::uint64_t covered = 0;
  for (const Run& run : out.runs) {
    if (run.logical != covered)
      throw Malformed(fmt::format("CoreStorage metadata: expected the volume to go on at {}, found {}",
                                  covered, run.logical));
    covered += run.length;
  }
  if (covered < out.size)
    throw Malformed(
        fmt::format("CoreStorage metadata: expected places for {} bytes, found {}", out.size, covered));
  return out;
}

Secret unlock(const Volume& volume, KeyRing& keys, const std::string& name) {
  if (volume.users.empty()) throw Unsupported("a CoreStorage volume that no passphrase unlocks");
  constexpr std::size_t kKey = 16, kUuid = 16;
  std::string digits = volume.family_id;
  std::erase(digits, '-');
  auto family = from_hex(digits);
  if (!family || family->size() != kUuid)
    throw Malformed(
        fmt::format("CoreStorage metadata: \"{}\" is no identifier of a family", escape(volume.family_id)));
  std::optional<Secret> found;
  keys.find(name, [&](const std::string& secret) {
    DerivationBudget budget;
    for (const User& user : volume.users) {
      budget.spend(user.rounds);
      Secret derived = derive_pbkdf2(as_bytes(secret), "sha256", user.salt, user.rounds, kKey);
      auto wrapping = unwrap_key(derived.view(), user.wrapped_key);
      if (!wrapping) continue;
      auto key = unwrap_key(wrapping->view(), volume.wrapped_key);
      if (!key)
        throw Malformed("CoreStorage metadata: the passphrase is right, but the volume's key is damaged");
      Secret both(kKey + kUuid);
      std::copy(family->begin(), family->end(), std::copy_n(key->view().begin(), kKey, both.span().begin()));
      Secret tweak = hash_of("sha256", both.view());
      found.emplace(2 * kKey);
      std::copy_n(tweak.view().begin(), kKey, std::copy_n(key->view().begin(), kKey, found->span().begin()));
      return KeyRing::Fit::yes;
    }
    return KeyRing::Fit::no;
  });
  return std::move(*found);
}

}  // namespace operculum::corestorage
