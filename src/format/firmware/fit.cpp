// Flattened image trees (Flattened Image Tree specification 0.8): a device tree whose node /images holds
// files, each with hashes, and whose node /configurations says which belong together. The bytes of an image
// are its property `data`, or lie behind the tree (`data-offset`, counted from its end at a multiple of 4
// bytes) or anywhere in the file (`data-position`), `data-size` bytes each. A `cipher` node tells of AES in
// CBC mode with padding after PKCS #7.
#include <fmt/format.h>

#include <algorithm>

#include "base/brief_text.h"
#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "cipher/block_ciphers.h"
#include "format/firmware/device_tree.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/named_key.h"
#include "io/first_bytes.h"

namespace operculum {
namespace {

using namespace fdt;

/// Where an image's bytes lie.
struct Place {
  std::uint64_t at = 0, size = 0;
};

std::optional<Place> place_of(const Node& image, std::uint64_t tree_size) {
  if (const Property* data = image.property("data")) return Place{data->at, data->size};
  auto size = image.number("data-size");
  if (!size) return std::nullopt;
  if (auto at = image.number("data-position")) return Place{*at, *size};
  if (auto at = image.number("data-offset")) return Place{(tree_size + 3) / 4 * 4 + *at, *size};
  return std::nullopt;
}

constexpr std::size_t kMostNames = 10'000;
constexpr std::size_t kBlockSize = 16;  // of AES, in bytes

/// The sum of a hash node's algorithm, which bears the same name here; null: none that is known.
const SumKind* sum_of(std::string_view algorithm) {
  constexpr std::string_view kAlgorithms[] = {"crc32", "md5", "sha1", "sha256", "sha384", "sha512"};
  bool known = std::find(std::begin(kAlgorithms), std::end(kAlgorithms), algorithm) != std::end(kAlgorithms);
  return known ? find_sum(algorithm) : nullptr;
}

/// The strongest hash of an image that can be compared.
Expected strongest_hash(const Node& image, std::string& told) {
  Expected best;
  for (const Node& one : image.nodes) {
    if (one.name.starts_with("signature"))
      told += (told.empty() ? "" : ", ") + std::string("signed ") + one.string("algo");
    if (!one.name.starts_with("hash")) continue;
    const Property* value = one.property("value");
    const SumKind* sum = sum_of(one.string("algo"));
    if (value == nullptr || sum == nullptr || value->value.size() != sum->bytes) continue;
    if (best.digest.size() < value->value.size()) best = {.sum = sum->name, .digest = value->value};
  }
  return best;
}

/// What a cipher node asks for.
struct Sealed {
  std::string key_name;
  std::string iv_name;  ///< where the vector is kept outside of the file, as the key is
  Bytes iv;
  std::size_t key_size = 0;                 ///< bytes
  std::optional<std::uint64_t> unciphered;  ///< bytes
};

std::optional<Sealed> sealed(const Node& image) {
  const Node* cipher = image.node("cipher");
  if (cipher == nullptr) return std::nullopt;
  Sealed out;
  out.key_name = cipher->string("key-name-hint");
  out.iv_name = cipher->string("iv-name-hint");
  std::string algorithm = cipher->string("algo");
  out.key_size = algorithm == "aes128" ? 16 : algorithm == "aes192" ? 24 : algorithm == "aes256" ? 32 : 0;
  if (const Property* iv = cipher->property("iv")) out.iv = iv->value;
  out.unciphered = image.number("data-size-unciphered");
  return out;
}

std::string comment_of(const Node& image, const std::string& signatures) {
  std::string out = image.string("description");
  auto add = [&](const std::string& what) {
    if (!what.empty()) out += (out.empty() ? "" : "; ") + what;
  };
  for (const char* name : {"os", "arch"}) add(image.string(name));
  for (const char* name : {"load", "entry"}) {
    if (auto value = image.number(name)) add(fmt::format("{} {:#x}", name, *value));
  }
  if (std::string packing = image.string("compression"); !packing.empty() && packing != "none")
    add("packed by " + packing);
  add(signatures);
  return out;
}

/// An encrypted image: its bytes once the key ring has the key.
ContentPtr open_sealed(const SourcePtr& bytes, const Place& place, Sealed how, const std::string& container,
                       OpenContext& context) {
  if (how.key_size == 0) throw Unsupported("a cipher other than AES in an image tree");
  if (how.iv.empty()) {
    if (how.iv_name.empty())
      throw Malformed("an encrypted image that does not tell its initialisation vector");
    how.iv =
        find_block_key({how.iv_name, container, kBlockSize}, context.keys, [](ByteView) { return true; });
  }
  Bytes key = find_block_key({how.key_name, container, how.key_size}, context.keys, [&](ByteView candidate) {
    // The last block ends with its padding, each byte of which says how long that is.
    if (place.size < 16 || place.size % 16 != 0) throw Malformed("an encrypted image of broken length");
    std::uint64_t last = place.at + place.size - 16;
    Bytes before = place.size >= 32 ? read_exactly(*bytes, last - 16, 16, "encrypted image") : how.iv;
    SourcePtr block = make_slice(bytes, last, 16);
    StreamPtr plain =
        open_block_cipher(make_source_stream(block), make_aes(candidate), BlockMode::cbc, before);
    Bytes out = read_all(*plain, 16);
    Byte count = out.empty() ? 0 : out.back();
    return count >= 1 && count <= 16 && out.size() == 16 &&
           std::all_of(out.end() - count, out.end(), [&](Byte b) { return b == count; });
  });
  std::uint64_t size = how.unciphered.value_or(place.size);
  return make_content([bytes, place, how, key, size]() -> StreamPtr {
    StreamPtr stored = make_source_stream(bytes, place.at, place.size);
    StreamPtr plain = open_block_cipher(std::move(stored), make_aes(key), BlockMode::cbc, how.iv);
    return make_first_bytes(std::move(plain), size);
  });
}

void add_image(const Node& image, const Tree& tree, const SourcePtr& bytes, const std::string& container,
               OpenContext& context, Firmware& out) {
  std::string path = "images/" + part_name(image.name, "image");
  auto place = place_of(image, tree.total_size);
  if (!place) {
    out.note(fmt::format("{} has no data", escape(path)));
    return;
  }
  std::string signatures;
  FirmwarePart part{.path = path, .type = image.string("type"), .at = place->at, .size = place->size};
  part.expected = strongest_hash(image, signatures);
  part.comment = comment_of(image, signatures);
  if (auto how = sealed(image)) {
    // Hashes are of the bytes as they are stored (specification, "Hash nodes").
    part.encrypted = true;
    part.method = "AES";
    part.unpacked = how->unciphered.value_or(Entry::kUnknownSize);
    Expected stored = std::exchange(part.expected, {});
    part.checked = !stored.sum.empty();
    part.open = [=, &context] {
      if (!stored.sum.empty()) {
        StreamPtr all = make_checked(make_source_stream(bytes, place->at, place->size), stored);
        all->skip(UINT64_MAX);
      }
      return open_sealed(bytes, *place, *how, container, context);
    };
  }
  out.parts.push_back(std::move(part));
}

Match recognise_fit(Probe& probe) {
  if (!begins_tree(probe)) return Match::none;
  // Only with random access are all its bytes there; a tree that comes as a stream may hold images far on.
  SourcePtr source = probe.source();
  if (!source) {
    constexpr std::string_view kImages("\0\0\0\1images\0", 11);
    return as_text(probe.head(Probe::kReach)).find(kImages) != std::string_view::npos ? Match::front
                                                                                      : Match::none;
  }
  try {
    return read_tree(source).root.node("images") != nullptr ? Match::front : Match::none;
  } catch (const Error&) {
    return Match::none;
  }
}

ContainerPtr open_fit(const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Tree tree = read_tree(bytes);
  const Node* images = tree.root.node("images");
  if (images == nullptr) throw Malformed("image tree: it has no node /images");
  Firmware out;
  if (std::string what = tree.root.string("description"); !what.empty())
    out.facts.emplace_back("description", what);
  if (auto made = tree.root.number("timestamp"))
    out.facts.emplace_back("made", to_text(from_unix(static_cast<std::int64_t>(*made))));
  out.parts.push_back({.path = "images", .kind = EntryKind::folder});
  for (const Node& image : images->nodes) add_image(image, tree, bytes, input.name, context, out);
  if (const Node* configurations = tree.root.node("configurations")) {
    std::string usual = configurations->string("default");
    std::size_t names = 0;
    for (const Node& one : configurations->nodes) {
      std::string of;
      for (const Property& property : one.properties) {
        if (property.name == "description" || !is_strings(property.value)) continue;
        for (std::string_view name :
             split(as_text(ByteView(property.value).first(property.value.size() - 1)), '\0')) {
          if (++names > kMostNames)
            throw LimitExceeded("image tree: its configurations name more than 10,000 images");
          bool missing = images->node(name) == nullptr;
          bool is_image = property.name != "compatible";
          if (missing && is_image)
            out.fault(fmt::format("configuration {} wants {} \"{}\", which is not there", escape(one.name),
                                  escape(property.name), escape_briefly(name)));
          of += fmt::format("{}{} {}", of.empty() ? "" : ", ", property.name, name);
        }
      }
      bool is_signed = std::any_of(one.nodes.begin(), one.nodes.end(),
                                   [](const Node& n) { return n.name.starts_with("signature"); });
      out.facts.emplace_back(one.name == usual ? "usual configuration" : "configuration",
                             fmt::format("{}: {}{}", one.name, of, is_signed ? "; signed" : ""));
    }
  }
  out.text = source_text(tree, 256);
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format fit_format() {
  return {
      .id = "fit",
      .name = "flattened image tree",
      .family = "firmware",
      .specification = "Flattened Image Tree specification 0.8",
      .reads =
          "data within and behind the tree, hashes (compared), configurations, signatures (named), AES-CBC "
          "with a key of the ring",
      .lacks = "checking of signatures",
      .suffixes = {".itb"},
      .recognise = recognise_fit,
      .open = open_fit};
}

}  // namespace operculum
