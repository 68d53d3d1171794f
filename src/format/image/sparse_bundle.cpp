// Sparse bundles: a folder with a property list and a disk in bands, files of one size each that are named by
// their number in hexadecimal; bands that are not there are zeros. After the property list itself
// ("bundle-backingstore-version" 1).
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <mutex>
#include <pugixml.hpp>

#include "base/text.h"
#include "format/image/disk_image.h"
#include "format/image/encrypted_image.h"
#include "format/image/formats.h"
#include "io/spool.h"

namespace operculum {
namespace {

constexpr std::string_view kType = "com.apple.diskimage.sparsebundle";
constexpr std::size_t kLargestList = 1 << 20;  // bytes

class BandsSource final : public Source {
 public:
  BandsSource(Beside beside, std::uint64_t size, std::uint64_t band)
      : beside_(std::move(beside)), size_(size), band_(band) {}

  std::uint64_t size() const override { return size_; }

  std::size_t read_at(std::uint64_t offset, ByteSpan out) const override {
    if (offset >= size_) return 0;
    out = out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size_ - offset)));
    for (std::size_t done = 0; done < out.size();) {
      std::uint64_t at = offset + done, within = at % band_;
      ByteSpan part = out.subspan(
          done, static_cast<std::size_t>(std::min<std::uint64_t>(band_ - within, out.size() - done)));
      SourcePtr band = band_at(at / band_);
      std::size_t got = band ? band->read_at(within, part) : 0;
      std::fill(part.begin() + static_cast<std::ptrdiff_t>(got), part.end(), Byte{0});
      done += part.size();
    }
    return out.size();
  }

  std::uint64_t hole_at(std::uint64_t offset) const override {
    if (offset >= size_) return 0;
    std::uint64_t within = offset % band_, left = std::min(band_ - within, size_ - offset);
    SourcePtr band = band_at(offset / band_);
    if (!band || within >= band->size()) return left;
    return std::min(left, band->hole_at(within));
  }

 private:
  SourcePtr band_at(std::uint64_t number) const {
    std::lock_guard lock(mutex_);
    if (auto known = bands_.find(number); known != bands_.end()) return known->second;
    constexpr std::size_t kMostOpen = 64;
    if (bands_.size() >= kMostOpen) bands_.clear();
    return bands_[number] = beside_(fmt::format("bands/{:x}", number));
  }

  Beside beside_;
  std::uint64_t size_, band_;
  mutable std::mutex mutex_;
  mutable std::map<std::uint64_t, SourcePtr> bands_;  // null: not there
};

std::uint64_t number_in(const pugi::xml_node& dictionary, std::string_view key) {
  for (pugi::xml_node child : dictionary.children("key")) {
    if (key != child.text().get()) continue;
    if (auto number = parse_number(child.next_sibling("integer").text().get())) return *number;
  }
  throw Malformed(
      fmt::format("sparse bundle: expected a number \"{}\" in the property list, found none", key));
}

Match recognise_sparse_bundle(Probe& probe) {
  constexpr std::size_t kFront = 4096;
  ByteView head = probe.head(kFront);
  std::string_view text = as_text(head);
  return text.find("<plist") != std::string_view::npos && text.find(kType) != std::string_view::npos
             ? Match::front
             : Match::none;
}

ContainerPtr open_sparse_bundle(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Bytes raw = read_up_to(*file, 0, kLargestList);
  pugi::xml_document list;
  if (!list.load_buffer(raw.data(), raw.size()))
    throw Malformed("sparse bundle: the property list is no XML");
  pugi::xml_node dictionary = list.child("plist").child("dict");
  std::uint64_t band = number_in(dictionary, "band-size"), size = number_in(dictionary, "size");
  if (band == 0 || band % 512 != 0)
    throw Malformed(fmt::format("sparse bundle: expected band-size to be a multiple of 512, found {}", band));
  DiskImage image;
  image.facts = {{"band", fmt::format("{} bytes", band)}};
  SourcePtr token = input.sibling("token");
  if (!input.sibling || (!input.sibling("bands/0") && size != 0))
    image.findings.push_back(
        {Finding::Level::fault,
         "its first band, the file bands/0, is not beside the property list; put the folder there"});
  image.bytes = std::make_shared<BandsSource>(input.sibling, size, band);
  if (token && starts_with(read_up_to(*token, 0, encrypted_image::kMark.size()), encrypted_image::kMark)) {
    encrypted_image::Head head = encrypted_image::read_head(*token);
    image.method = "encrypted";
    image.facts.emplace_back("cipher", fmt::format("AES in CBC mode, {} bits", head.key_size * 8));
    image.bytes = encrypted_image::decrypt(head, image.bytes, 0, size, context.keys, input.name);
  }
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format sparse_bundle_format() {
  return {.id = "sparse-bundle",
          .name = "sparse bundle",
          .family = "disk image",
          .specification = "the bundle's own property list, bundle-backingstore-version 1",
          .reads =
              "bands of all sizes, also encrypted ones, by passphrase; the target is the bundle's Info.plist",
          .lacks = "keys of encrypted bundles that a certificate wraps",
          .suffixes = {},
          .single_stream = true,
          .recognise = recognise_sparse_bundle,
          .open = open_sparse_bundle};
}

}  // namespace operculum
