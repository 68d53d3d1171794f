#include <fmt/format.h>

#include "base/text.h"
#include "format/image/disk_image.h"
#include "format/volume/bitlocker.h"
#include "format/volume/formats.h"
#include "io/locked_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace bitlocker;

Match recognise_bitlocker(Probe& probe) {
  return find_identifier(probe.head(512)) ? Match::front : Match::none;
}

ContainerPtr open_bitlocker(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Volume volume = read_volume(*file);
  DiskImage image;
  image.method = volume.encrypted == 0 ? "stored" : "encrypted";
  image.facts = {{"uuid", volume.id}, {"cipher", method_name(volume.method)}};
  if (!volume.description.empty()) image.facts.emplace_back("label", escape(volume.description));
  if (volume.made.known()) image.facts.emplace_back("made", to_text(volume.made));
  image.facts.emplace_back("sector", fmt::format("{} bytes", volume.sector));
  for (const Protector& one : volume.protectors)
    image.facts.emplace_back("unlocked by", fmt::format("{} ({})", protector_name(one), one.id));
  for (const std::string& text : volume.warnings) image.findings.push_back({Finding::Level::warning, text});
  image.bytes = make_locked(volume.size, [file, volume, name = input.name, keys = context.keys]() mutable {
    return decrypt(file, volume, unlock(volume, keys, name));
  });
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format bitlocker_format() {
  return {
      .id = "bitlocker",
      .name = "BitLocker encrypted volume",
      .family = "volume",
      .specification =
          "none published; as commonly documented; \"AES-CBC + Elephant diffuser\" (N. Ferguson, 2006)",
      .reads =
          "AES in CBC mode with and without the diffuser and in XTS mode, 128 and 256 bits; by password, "
          "recovery password, key file, or a key that lies open; removable ones, sectors of up to 4096 "
          "bytes; the other copies of the metadata",
      .lacks =
          "volumes that only a security chip or a smart card unlocks, those that are encrypted as they are "
          "written to",
      .single_stream = true,
      .recognise = recognise_bitlocker,
      .open = open_bitlocker};
}

}  // namespace operculum
