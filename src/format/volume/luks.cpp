#include "format/volume/luks.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.h"
#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "container/record_fields.h"
#include "format/volume/luks2_metadata.h"

namespace operculum::luks {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::size_t kFirstSize = 592, kSecondHead = 4096, kFirstSlots = 8;
constexpr std::uint64_t kLargestHeader = 4 << 20;  // specification of LUKS2, table 1
constexpr std::size_t kLargestKey = 1024, kMostStripes = 10'000;

/// The head of LUKS1, but its slots.
struct FirstHead {
  std::array<Byte, 32> cipher_name = {}, cipher_mode = {}, hash_spec = {};
  std::uint32_t payload_offset = 0, key_bytes = 0;
  std::array<Byte, 20> mk_digest = {};
  std::array<Byte, 32> mk_digest_salt = {};
  std::uint32_t mk_digest_iter = 0;
  std::array<Byte, 40> uuid = {};
  static constexpr auto layout = big_endian(
      from_byte<8>(), field("cipher-name", &FirstHead::cipher_name),
      field("cipher-mode", &FirstHead::cipher_mode), field("hash-spec", &FirstHead::hash_spec),
      field("payload-offset", &FirstHead::payload_offset), field("key-bytes", &FirstHead::key_bytes),
      field("mk-digest", &FirstHead::mk_digest), field("mk-digest-salt", &FirstHead::mk_digest_salt),
      field("mk-digest-iter", &FirstHead::mk_digest_iter), field("uuid", &FirstHead::uuid));
};

struct FirstSlot {
  std::uint32_t active = 0, iterations = 0;
  std::array<Byte, 32> salt = {};
  std::uint32_t key_material_offset = 0, stripes = 0;
  static constexpr std::uint32_t enabled = 0x00AC71F3;
  static constexpr auto layout = big_endian(
      field("active", &FirstSlot::active), field("iterations", &FirstSlot::iterations),
      field("salt", &FirstSlot::salt), field("key-material-offset", &FirstSlot::key_material_offset),
      field("stripes", &FirstSlot::stripes));
};

/// The binary head of LUKS2.
struct SecondHead {
  std::array<Byte, 6> magic = {};
  std::uint16_t version = 0;
  std::uint64_t hdr_size = 0, seqid = 0;
  std::array<Byte, 48> label = {};
  std::array<Byte, 32> csum_alg = {};
  std::array<Byte, 40> uuid = {};
  std::uint64_t hdr_offset = 0;
  std::array<Byte, 64> csum = {};
  static constexpr auto layout = big_endian(
      field("magic", &SecondHead::magic), field("version", &SecondHead::version),
      field("hdr_size", &SecondHead::hdr_size), field("seqid", &SecondHead::seqid),
      field("label", &SecondHead::label), field("csum_alg", &SecondHead::csum_alg), from_byte<168>(),
      field("uuid", &SecondHead::uuid), from_byte<256>(), field("hdr_offset", &SecondHead::hdr_offset),
      from_byte<448>(), field("csum", &SecondHead::csum));
};

std::string text_of(ByteView field) {
  return std::string(until_zero(as_text(field)));
}

Header read_first(ByteView raw) {
  FirstHead head = read_structure<FirstHead>(raw.data());
  Header out;
  out.version = 1;
  out.uuid = text_of(head.uuid);
  out.encryption = text_of(head.cipher_name) + "-" + text_of(head.cipher_mode);
  out.data_at = head.payload_offset * kSector;
  std::string hash = text_of(head.hash_spec);
  if (head.key_bytes == 0 || head.key_bytes > kLargestKey)
    refuse_field("LUKS header", 0, &FirstHead::key_bytes, fmt::format("1 to {}", kLargestKey),
                 fmt::format("{}", head.key_bytes));
  out.digests.push_back({hash,
                         head.mk_digest_iter,
                         Bytes(head.mk_digest_salt.begin(), head.mk_digest_salt.end()),
                         Bytes(head.mk_digest.begin(), head.mk_digest.end()),
                         {}});
  constexpr std::size_t kSlotsAt = 208;
  for (unsigned i = 0; i < kFirstSlots; ++i) {
    FirstSlot slot = read_structure<FirstSlot>(raw.data() + kSlotsAt + i * size_on_disk<FirstSlot>);
    if (slot.active != FirstSlot::enabled) continue;
    Slot one;
    one.number = i;
    one.derivation = {"pbkdf2", hash, slot.iterations, {}, Bytes(slot.salt.begin(), slot.salt.end())};
    one.encryption = out.encryption;
    one.area_key_size = one.key_size = head.key_bytes;
    one.area_at = slot.key_material_offset * kSector;
    one.area_size = std::uint64_t{head.key_bytes} * slot.stripes;
    one.split_hash = hash;
    one.stripes = slot.stripes;
    out.slots.push_back(std::move(one));
  }
  return out;
}

/// One of the two copies; throws Malformed unless it fits its checksum.
Header read_second(const Source& file, std::uint64_t base, std::uint64_t at, std::string_view mark) {
  Bytes raw = read_exactly(file, base + at, kSecondHead, "LUKS2 header");
  SecondHead head = read_structure<SecondHead>(raw.data());
  if (as_text(head.magic) != mark || head.version != 2 || head.hdr_offset != at)
    throw Malformed(fmt::format("LUKS2 header at offset {}: the mark is missing", base + at));
  if (head.hdr_size < kSecondHead * 2 || head.hdr_size > kLargestHeader)
    refuse_field("LUKS2 header", base + at, &SecondHead::hdr_size, "8192 bytes to 4 MiB",
                 fmt::format("{}", head.hdr_size));
  Bytes json = read_exactly(file, base + at + kSecondHead, head.hdr_size - kSecondHead, "LUKS2 metadata");
  constexpr std::size_t kSumAt = 448;
  Bytes summed = raw;
  std::fill_n(summed.begin() + kSumAt, head.csum.size(), Byte{0});
  summed.insert(summed.end(), json.begin(), json.end());
  Secret own = hash_of(text_of(head.csum_alg), summed);
  bool same =
      own.size() <= head.csum.size() && same_secret(own.view(), ByteView(head.csum).first(own.size()));
  if (!sum_fits(same ? 1 : 0, 1))
    throw Malformed(fmt::format(
        "LUKS2 header at offset {}: it does not fit its checksum (stored {}, computed {})", base + at,
        to_hex(ByteView(head.csum).first(std::min(own.size(), head.csum.size()))), to_hex(own.view())));
  Header out;
  out.version = 2;
  out.uuid = text_of(head.uuid);
  out.label = text_of(head.label);
  read_metadata(as_text(json), out);
  return out;
}

Header read_either(const Source& file, std::uint64_t base) {
  constexpr std::uint64_t kSecondPlaces[] = {0x4000,  0x8000,   0x10000,  0x20000, 0x40000,
                                             0x80000, 0x100000, 0x200000, 0x400000};
  std::string wrong;
  try {
    return read_second(file, base, 0, kMark);
  } catch (const Malformed& error) {
    wrong = error.what();
  }
  for (std::uint64_t at : kSecondPlaces) {
    try {
      Header out = read_second(file, base, at, "SKUL\xBA\xBE");
      out.warnings.push_back(fmt::format("the first header is damaged ({}); its copy was used", wrong));
      return out;
    } catch (const Malformed&) {
    }
  }
  throw Malformed(wrong);
}

Secret derive(const Derivation& how, ByteView password, std::size_t size, DerivationBudget& budget) {
  if (how.kind == "pbkdf2") {
    budget.spend(how.rounds);
    return derive_pbkdf2(password, how.hash, how.salt, how.rounds, size);
  }
  budget.spend(how.argon.passes * std::min<std::uint64_t>(how.argon.memory, UINT32_MAX));
  return derive_argon2(password, how.argon, how.salt, size);
}

/// Spreads every bit over the whole stripe: each piece, as long as the hash, becomes the hash of its number
/// and itself.
void diffuse(ByteSpan stripe, const std::string& hash) {
  std::size_t size = hash_of(hash, {}).size();
  for (std::size_t at = 0, number = 0; at < stripe.size(); at += size, ++number) {
    std::size_t length = std::min(size, stripe.size() - at);
    Secret piece(4 + length);
    for (std::size_t i = 0; i < 4; ++i) piece.span()[i] = static_cast<Byte>(number >> (24 - 8 * i));
    std::copy_n(stripe.begin() + static_cast<std::ptrdiff_t>(at), length, piece.span().begin() + 4);
    Secret digest = hash_of(hash, piece.view());
    std::copy_n(digest.view().begin(), length, stripe.begin() + static_cast<std::ptrdiff_t>(at));
  }
}

/// Joins what the anti-forensic splitter took apart (specification of LUKS1, section 2.4).
Secret join_stripes(ByteView split, const Slot& slot) {
  Secret out(slot.key_size);
  for (std::size_t i = 0; i < slot.stripes; ++i) {
    ByteView stripe = split.subspan(i * slot.key_size, slot.key_size);
    for (std::size_t b = 0; b < slot.key_size; ++b) out.span()[b] ^= stripe[b];
    if (i + 1 < slot.stripes) diffuse(out.span(), slot.split_hash);
  }
  return out;
}

Secret key_in(const Slot& slot, const Source& file, std::uint64_t base, ByteView password,
              DerivationBudget& budget) {
  if (slot.key_size == 0 || slot.key_size > kLargestKey || slot.stripes == 0 || slot.stripes > kMostStripes ||
      slot.area_key_size > kLargestKey)
    throw Malformed(fmt::format("LUKS slot {}: {} stripes of a key of {} bytes are not possible", slot.number,
                                slot.stripes, slot.key_size));
  std::size_t size = slot.key_size * slot.stripes, sectors = (size + kSector - 1) / kSector * kSector;
  Secret derived = derive(slot.derivation, password, slot.area_key_size, budget);
  Secret area(sectors);
  if (file.read_at(base + slot.area_at, area.span()) < size)
    throw CutShort(fmt::format("LUKS slot {} is cut short", slot.number));
  make_disk_cipher(slot.encryption, derived.view(), kSector)->decrypt(0, area.span());
  return join_stripes(area.view().first(size), slot);
}

bool fits(const Digest& digest, ByteView key, DerivationBudget& budget) {
  budget.spend(digest.rounds);
  Secret own = derive_pbkdf2(key, digest.hash, digest.salt, digest.rounds, digest.value.size());
  return same_secret(own.view(), digest.value);
}

}  // namespace

Header read_header(const Source& file, std::uint64_t at) {
  Bytes raw = read_up_to(file, at, kFirstSize);
  bool marked = starts_with(raw, kMark);
  std::uint16_t version = raw.size() >= 8 ? static_cast<std::uint16_t>(raw[6] << 8 | raw[7]) : 0;
  if (marked && version == 1) {
    if (raw.size() < kFirstSize) throw CutShort("LUKS header: the image is cut short");
    return read_first(raw);
  }
  if (marked && version != 2) throw Unsupported(fmt::format("LUKS of version {}", version));
  return read_either(file, at);
}

Secret unlock(const Header& header, const Source& file, std::uint64_t at, KeyRing& keys,
              const std::string& name) {
  if (header.slots.empty())
    throw Unsupported(header.unsupported_slots.empty()
                          ? "LUKS without a key slot: nothing can open it"
                          : fmt::format("its key slots ({})", fmt::join(header.unsupported_slots, "; ")));
  if (header.digests.empty()) throw Malformed("LUKS: there is no digest to compare a key with");
  std::optional<Secret> found;
  keys.find(name, [&](const std::string& secret) {
    DerivationBudget budget;
    std::size_t lacking = 0;
    for (const Slot& slot : header.slots) {
      Secret key;
      try {
        key = key_in(slot, file, at, as_bytes(secret), budget);
      } catch (const Unsupported&) {  // costs no other slot
        if (++lacking == header.slots.size()) throw;
        continue;
      }
      for (const Digest& digest : header.digests) {
        bool about = digest.slots.empty() ||
                     std::find(digest.slots.begin(), digest.slots.end(), slot.number) != digest.slots.end();
        if (!about || !fits(digest, key.view(), budget)) continue;
        found = std::move(key);
        return KeyRing::Fit::yes;
      }
    }
    return KeyRing::Fit::no;
  });
  return std::move(*found);
}

PlacedFields shown_head(Probe& probe) {
  Bytes raw = probe.at(0, size_on_disk<SecondHead>);
  bool first = raw.size() == size_on_disk<SecondHead> && read_field(&SecondHead::version, raw.data()) == 1;
  return first ? fields_at<FirstHead>(probe, 0) : fields_at<SecondHead>(probe, 0);
}

}  // namespace operculum::luks
