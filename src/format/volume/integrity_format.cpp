#include <fmt/format.h>

#include "base/text.h"
#include "format/image/disk_image.h"
#include "format/volume/formats.h"
#include "format/volume/integrity.h"
#include "io/spool.h"

namespace operculum {
namespace {

using namespace integrity;

Match recognise_integrity(Probe& probe) {
  return starts_with(probe.head(kMark.size()), kMark) ? Match::front : Match::none;
}

ContainerPtr open_integrity(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Layout layout = read_layout(*file, 0);
  std::optional<std::string> checksum = find_checksum(*file, layout);
  DiskImage image;
  image.facts = {{"version", fmt::format("{}", layout.version)},
                 {"tag", fmt::format("{} bytes for each {}", layout.tag_size, layout.block)},
                 {"checksum", checksum.value_or("not known")}};
  if (!checksum)
    image.findings.push_back(
        {Finding::Level::note,
         "the tags are no checksum that is known without a key: nothing is compared with them"});
  if (layout.dirty)
    image.findings.push_back(
        {Finding::Level::warning, "the tags were not up to date: some blocks may not fit theirs"});
  image.summed = checksum.has_value();
  image.bytes = make_data(file, layout, checksum);
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format integrity_format() {
  return {
      .id = "integrity",
      .name = "dm-integrity volume",
      .family = "volume",
      .specification = "Linux kernel, Documentation/admin-guide/device-mapper/dm-integrity.rst",
      .reads = "all sizes of blocks and tags; CRC-32C, CRC-32, xxHash, SHA-1, SHA-256 and SHA-512 compared",
      .lacks = "tags on another device, tags by a key; the journal is not replayed",
      .single_stream = true,
      .recognise = recognise_integrity,
      .open = open_integrity,
      .records = {known_superblock()}};
}

}  // namespace operculum
