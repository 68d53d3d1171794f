// LZO files; what the format is, codec/lzo_file.cpp says.
#include "codec/lzo_file.h"
#include "container/identify.h"
#include "format/stream/formats.h"
#include "format/stream/single_stream.h"

namespace operculum {
namespace {

Match recognise_lzo(Probe& probe) {
  return starts_with(probe.head(kLzoFileMagic.size()), kLzoFileMagic) ? Match::front : Match::none;
}

ContainerPtr open_lzo(const Input& input, OpenContext&) {
  Probe probe = make_probe(*input.content, input.name);
  LzoFileHead head = read_lzo_file_head(probe.head(Probe::kReach));
  return make_single_stream(input, {.codec = "lzo", .name = head.name, .modified = head.modified},
                            {{".lzo", ""}, {".tzo", ".tar"}});
}

}  // namespace

Format lzo_format() {
  return {.id = "lzo",
          .name = "LZO file",
          .family = "stream",
          .specification = "file format of LZO's own compressor, 1.04",
          .reads = "several files one after another; checksums of header and blocks verified",
          .lacks = "filters",
          .suffixes = {".lzo", ".tzo"},
          .single_stream = true,
          .forward = true,
          .codec = "lzo",
          .checks_data = true,
          .recognise = recognise_lzo,
          .open = open_lzo};
}

}  // namespace operculum
