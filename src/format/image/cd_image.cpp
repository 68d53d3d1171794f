// An image of a data disc with raw sectors, without a sheet that describes it.
#include <fmt/format.h>

#include "format/image/cd_sectors.h"
#include "format/image/disk_image.h"
#include "format/image/formats.h"
#include "io/spool.h"

namespace operculum {
namespace {

/// From one sector to the next; 0 when these are none.
std::size_t stride_of(Probe& probe) {
  for (std::size_t stride : {kRawSector, kRawSector + kSubchannels}) {
    Bytes second = probe.at(stride, kSectorSync.size());
    if (starts_with(second, kSectorSync)) return stride;
  }
  return 0;
}

Match recognise_cd_image(Probe& probe) {
  ByteView head = probe.head(16);
  if (head.size() < 16 || !starts_with(head, kSectorSync)) return Match::none;
  constexpr std::size_t kModeAt = 15;
  unsigned mode = head[kModeAt];
  return (mode == 1 || mode == 2) && stride_of(probe) != 0 ? Match::front : Match::none;
}

ContainerPtr open_cd_image(const Input& input, OpenContext& context) {
  SourcePtr file = random_access(*input.content, context.spool);
  Probe probe(file, input.name);
  std::size_t stride = stride_of(probe);
  if (stride == 0) throw Malformed("expected raw sectors of 2,352 or 2,448 bytes, found no second one");
  SectorShape shape = shape_of_sectors(read_exactly(*file, 0, 16, "sector of a disc"), stride);
  DiskImage image;
  image.facts = {{"sectors", fmt::format("{} of {} bytes, mode {}", file->size() / stride, stride,
                                         shape.user_at == 16 ? 1 : 2)}};
  if (std::uint64_t rest = file->size() % stride; rest != 0)
    image.findings.push_back(
        {Finding::Level::warning,
         fmt::format("the last sector has {} of {} bytes: the image may be cut short", rest, stride)});
  image.bytes = make_user_data(file, shape);
  return make_disk_image(input, std::move(image));
}

}  // namespace

Format cd_image_format() {
  return {.id = "cd",
          .name = "CD image with raw sectors",
          .family = "disk image",
          .specification = "ECMA-130; CD-ROM XA",
          .reads = "modes 1 and 2, with and without subchannels, sectors of form 1",
          .lacks = "what sectors of form 2 hold beyond 2,048 bytes; correcting errors",
          .suffixes = {},  // .bin and .img are anything
          .single_stream = true,
          .recognise = recognise_cd_image,
          .open = open_cd_image};
}

}  // namespace operculum
