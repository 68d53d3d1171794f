// Opens arbitrary bytes as one format, whether or not they are recognised, lists them, reads all data, both
// with random access and as a stream, and asks what they would install.
#include "format/package/formats.h"

#include <algorithm>

#include "base/error.h"
#include "container/open.h"
#include "fuzz/pages.h"
#include "fuzz/target.h"

namespace operculum::fuzz {
namespace {

/// How much of a container is read.
struct Most {
  std::uint64_t bytes = 4 << 20;  // of one entry's data
  int entries = 200;
};
/// Sizes that images claim are holes for the most part: zeros teach nothing.
constexpr Most kOfPages = {128 << 10, 60};

void read_data(Stream& stream, std::uint64_t most) {
  Bytes block(64 * 1024);
  for (std::uint64_t done = 0; done < most;) {
    std::size_t count = stream.read(block);
    if (count == 0) return;
    done += count;
  }
}

void open_and_read(const Format& format, const ContentPtr& content, const Most& most) {
  OpenContext context;
  context.limits.max_entries = 100'000;
  // deriving a key takes as long as the input says: that is no finding
  constexpr std::string_view kSlow[] = {"luks",        "qcow2",           "bitlocker",
                                        "corestorage", "encrypted-image", "sparse-bundle"};
  if (std::find(std::begin(kSlow), std::end(kSlow), format.id) == std::end(kSlow))
    context.keys.add({"password", "the fuzzer"});
  try {
    ContainerPtr container = format.open({content, "sample"}, context);
    int left = most.entries;
    container->walk([&](const Visit& visit) {
      try {
        if (visit.stream != nullptr) read_data(*visit.stream, most.bytes);
        if (visit.content) read_data(*visit.content->stream(), most.bytes);
      } catch (const Error&) {
        // a clear error is a right answer
      }
      return --left > 0;
    });
    container->facts();
    container->installation();
    container->text();
  } catch (const Error&) {
    // likewise
  }
}

void look_as(const Format& format, const SourcePtr& source, const Most& most = {}) {
  Probe probe(source, "sample");
  format.recognise(probe);
  open_and_read(format, make_content(source), most);
  open_and_read(format, make_content([source] { return make_source_stream(source); }), most);
}

SourcePtr source_of(ByteView bytes) {
  return make_memory_source(Bytes(bytes.begin(), bytes.end()));
}

}  // namespace

std::vector<Target> format_targets() {
  std::vector<Target> all;
  for (const Format& format : formats()) {
    all.push_back({std::string(format.id), [&format](ByteView bytes) { look_as(format, source_of(bytes)); }});
    constexpr std::string_view kApart[] = {"xfs",  "btrfs",     "f2fs",        "nilfs2", "jfs",  "reiserfs",
                                           "ufs",  "minix",     "hfs",         "md",     "lvm2", "luks",
                                           "apfs", "bitlocker", "corestorage", "ldm",    "affs", "sysv",
                                           "befs", "qnx4",      "qnx6",        "hpfs",   "ddf",  "imsm"};
    if (std::find(std::begin(kApart), std::end(kApart), format.id) != std::end(kApart))
      all.push_back({std::string(format.id) + "-pages",
                     [&format](ByteView bytes) { look_as(format, pages_of(bytes), kOfPages); }});
  }
  static const Format searched = searched_file_format();  // not among the others
  all.push_back({"searched", [](ByteView bytes) { look_as(searched, source_of(bytes)); }});
  return all;
}

}  // namespace operculum::fuzz
