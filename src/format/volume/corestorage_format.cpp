#include "base/text.h"
#include "cipher/disk_cipher.h"
#include "format/image/disk_image.h"
#include "format/volume/corestorage.h"
#include "format/volume/formats.h"
#include "io/extent_source.h"
#include "io/locked_source.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace corestorage;

constexpr std::size_t kSector = 512;

Match recognise_corestorage(Probe& probe) {
  return is_head(probe.head(kSector)) ? Match::front : Match::none;
}

ContainerPtr open_corestorage(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Volume volume = read_volume(*file);
  DiskImage image;
  image.facts = {{"uuid", escape(volume.id)},
                 {"label", escape(volume.name)},
                 {"group", volume.group_id},
                 {"part", "physical volume " + volume.physical_id}};
  if (volume.encrypted) image.facts.emplace_back("cipher", "AES in XTS mode, 128 bits");
  for (const User& user : volume.users)
    image.facts.emplace_back("unlocked by", "passphrase of " + escape(user.id));
  for (const std::string& text : volume.warnings) image.findings.push_back({Finding::Level::warning, text});
  std::vector<Extent> extents;
  for (const Run& run : volume.runs)
    extents.push_back(
        {run.logical, run.physical, std::min(run.length, volume.size - std::min(volume.size, run.logical))});
  SourcePtr stored = make_extent_source(file, std::move(extents), volume.size);
  if (!volume.encrypted) {
    image.bytes = stored;
    return make_disk_image(input, std::move(image));
  }
  image.method = "encrypted";
  image.bytes = make_locked(volume.size, [stored, volume, name = input.name, keys = context.keys]() mutable {
    if (volume.status != "Complete")
      throw Unsupported("a CoreStorage volume whose encryption was not finished (" + escape(volume.status) +
                        ")");
    Secret key = unlock(volume, keys, name);
    return make_decrypted(stored, 0, volume.size / kSector * kSector,
                          make_disk_cipher("aes-xts-plain64", key.view(), kSector), kSector, 0);
  });
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format corestorage_format() {
  return {
      .id = "corestorage",
      .name = "CoreStorage volume",
      .family = "volume",
      .specification = "none published; \"Infiltrate the Vault\" (O. Choudary, F. Grobert, J. Metz, 2012)",
      .reads =
          "a logical volume on one physical volume, plain, or encrypted (FileVault 2) by its passphrases",
      .lacks =
          "several logical or physical volumes, volumes that are being encrypted, recovery keys in files",
      .single_stream = true,
      .recognise = recognise_corestorage,
      .open = open_corestorage};
}

}  // namespace operculum
