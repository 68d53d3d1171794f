// A dump of a chip cut into the parts that a partition line tells, for dumps that have no table of their own.
#include <fmt/format.h>

#include "base/error.h"
#include "format/firmware/firmware_parts.h"
#include "format/firmware/formats.h"
#include "format/firmware/partition_line.h"
#include "format/first_file.h"

namespace operculum {
namespace {

ContainerPtr cut(const std::vector<FlashPartition>& partitions, const Input& input, OpenContext& context) {
  SourcePtr bytes = random_access(*input.content, context.spool);
  Firmware out;
  std::uint64_t end = 0;
  for (std::size_t i = 0; i < partitions.size(); ++i) {
    const FlashPartition& one = partitions[i];
    std::uint64_t size = one.rest ? bytes->size() - std::min(one.at, bytes->size()) : one.size;
    out.parts.push_back({.path = part_name(one.name, fmt::format("part-{}", i)),
                         .type = one.read_only ? "read-only partition" : "partition",
                         .at = one.at,
                         .size = size,
                         .comment = fmt::format("{:#x} to {:#x}", one.at, one.at + size)});
    end = std::max(end, one.at + size);
  }
  add_what_is_behind(*bytes, end, out);
  return make_firmware(std::move(bytes), std::move(out));
}

}  // namespace

Format cut_file_format(std::vector<FlashPartition> partitions) {
  auto parts = std::make_shared<std::vector<FlashPartition>>(std::move(partitions));
  return {.id = "cut",
          .name = "dump cut into parts",
          .family = "firmware",
          .specification = "Linux kernel, drivers/mtd/parsers/cmdlinepart.c",
          .reads = "parts as a line or a device tree tells them",
          .lacks = "",
          .recognise = recognise_first_file(),
          .open = [parts](const Input& input, OpenContext& context) { return cut(*parts, input, context); }};
}

}  // namespace operculum
