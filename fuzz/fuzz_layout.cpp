// A description and a container together: the input is the text, two zero bytes, the container. Whatever they
// say, compiling, opening, listing, reading and tracing end in a result, in problems, or in an Error.
#include "base/error.h"
#include "layout/compile.h"
#include "layout/coverage.h"
#include "layout/described_container.h"

namespace {

using namespace operculum;

constexpr std::size_t kMostEntries = 100;
constexpr std::uint64_t kMostBytes = 1 << 20;  // of one entry's data

void read_data(const Content& content) {
  Bytes block(4096);
  StreamPtr stream = content.stream();
  for (std::uint64_t done = 0; done < kMostBytes;) {
    std::size_t count = stream->read(block);
    if (count == 0) return;
    done += count;
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  std::string_view all(reinterpret_cast<const char*>(data), size);
  std::size_t end = std::min(all.find(std::string_view("\0\0", 2)), all.size());
  auto names = [](const std::string&) { return std::vector<std::string>{"crab.png"}; };
  layout::Compiled compiled = layout::compile({"fuzz.layout", std::string(all.substr(0, end))}, names);
  for (const layout::Problem& problem : compiled.problems)
    layout::Description{"fuzz.layout", std::string(all.substr(0, end))}.show(problem);
  if (!compiled.plan) return 0;
  std::string_view rest = all.substr(std::min(all.size(), end + 2));
  SourcePtr source = make_memory_source(Bytes(rest.begin(), rest.end()));
  OpenContext context;
  context.limits.max_entries = 20'000;
  context.spool.set_disk(1 << 20);
  context.keys.add({"the fuzzer's key", "fuzz"});
  try {
    layout::Tracer tracer(100);
    auto container = layout::open_described(compiled.plan, {make_content(source), "fuzz.bin", nullptr},
                                            source, context, &tracer);
    container->observe_all(tracer);
    std::size_t count = std::min(container->entries().size(), kMostEntries);
    for (std::size_t i = 0; i < count; ++i) {
      try {
        read_data(*container->content(i));
      } catch (const Error&) {
        // a clear error is a right answer
      }
    }
    tracer.ranges(*source);
  } catch (const Error&) {
    // likewise
  }
  return 0;
}
