// Opens arbitrary bytes as one format, whether or not they are recognised, lists them, reads all data, both
// with random access and as a stream, and asks what they would install. Anything but an Error is a finding of
// the fuzzer.
#include <algorithm>

#include "base/error.h"
#include "container/open.h"
#include "format/formats.h"

namespace {

using namespace operculum;

constexpr std::uint64_t kMostBytes = 4 << 20;  // of one entry's data
constexpr int kMostEntries = 200;

const Format& format_under_test() {
  static const Format searched = searched_file_format();  // not among the others
  static const auto found =
      std::find_if(formats().begin(), formats().end(), [](const Format& f) { return f.id == FUZZ_FORMAT; });
  return found == formats().end() ? searched : *found;
}

void read_data(Stream& stream) {
  Bytes block(64 * 1024);
  std::uint64_t done = 0;
  while (done < kMostBytes) {
    std::size_t count = stream.read(block);
    if (count == 0) return;
    done += count;
  }
}

void open_and_read(const ContentPtr& content) {
  OpenContext context;
  context.limits.max_entries = 100'000;
  context.keys.add({"password", "the fuzzer"});
  try {
    ContainerPtr container = format_under_test().open({content, "sample", nullptr}, context);
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
  } catch (const Error&) {
    // likewise
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  SourcePtr source = make_memory_source(Bytes(data, data + size));
  Probe probe(source, "sample");
  format_under_test().recognise(probe);
  open_and_read(make_content(source));
  open_and_read(make_content([source] { return make_source_stream(source); }));
  return 0;
}
