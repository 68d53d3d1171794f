// Opens arbitrary bytes as one format, whether or not they are recognised, lists them, reads all data, both
// with random access and as a stream, and asks what they would install.
#include "format/formats.h"

#include <algorithm>

#include "base/error.h"
#include "container/open.h"
#include "fuzz/target.h"

namespace operculum::fuzz {
namespace {

constexpr std::uint64_t kMostBytes = 4 << 20;  // of one entry's data
constexpr int kMostEntries = 200;

void read_data(Stream& stream) {
  Bytes block(64 * 1024);
  for (std::uint64_t done = 0; done < kMostBytes;) {
    std::size_t count = stream.read(block);
    if (count == 0) return;
    done += count;
  }
}

void open_and_read(const Format& format, const ContentPtr& content) {
  OpenContext context;
  context.limits.max_entries = 100'000;
  context.keys.add({"password", "the fuzzer"});
  try {
    ContainerPtr container = format.open({content, "sample", nullptr}, context);
    int left = kMostEntries;
    container->walk([&](const Visit& visit) {
      try {
        if (visit.stream != nullptr) read_data(*visit.stream);
        if (visit.content) read_data(*visit.content->stream());
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

void look_as(const Format& format, ByteView bytes) {
  SourcePtr source = make_memory_source(Bytes(bytes.begin(), bytes.end()));
  Probe probe(source, "sample");
  format.recognise(probe);
  open_and_read(format, make_content(source));
  open_and_read(format, make_content([source] { return make_source_stream(source); }));
}

}  // namespace

std::vector<Target> format_targets() {
  std::vector<Target> all;
  for (const Format& format : formats())
    all.push_back({std::string(format.id), [&format](ByteView bytes) { look_as(format, bytes); }});
  static const Format searched = searched_file_format();  // not among the others
  all.push_back({"searched", [](ByteView bytes) { look_as(searched, bytes); }});
  return all;
}

}  // namespace operculum::fuzz
