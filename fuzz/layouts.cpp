// The layout language and the study. A description and a container together are one input: the text, two zero
// bytes, the container.
#include <stdexcept>

#include "base/error.h"
#include "fuzz/target.h"
#include "layout/compile.h"
#include "layout/coverage.h"
#include "layout/described_container.h"
#include "study/leaves.h"
#include "study/study.h"

namespace operculum::fuzz {
namespace {

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

/// Compiling, opening, listing, reading and tracing end in a result, in problems, or in an Error.
void look_at_description(ByteView bytes) {
  std::string_view all = as_text(bytes);
  std::size_t end = std::min(all.find(std::string_view("\0\0", 2)), all.size());
  auto names = [](const std::string&) { return std::vector<std::string>{"crab.png"}; };
  layout::Compiled compiled = layout::compile({"fuzz.layout", std::string(all.substr(0, end))}, names);
  for (const layout::Problem& problem : compiled.problems)
    layout::Description{"fuzz.layout", std::string(all.substr(0, end))}.show(problem);
  if (!compiled.plan) return;
  std::string_view rest = all.substr(std::min(all.size(), end + 2));
  SourcePtr source = make_memory_source(Bytes(rest.begin(), rest.end()));
  OpenContext context;
  context.limits.max_entries = 20'000;
  context.spool.set_disk(1 << 20);
  context.keys.add({"the fuzzer's key", "fuzz"});
  try {
    layout::Tracer tracer({100, {}, {}});
    auto container =
        layout::open_described(compiled.plan, {make_content(source), "fuzz.bin"}, source, context, &tracer);
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
}

/// Whatever is in a file, the search ends, and its drafts compile.
void study_bytes(ByteView bytes) {
  OpenContext context;
  context.limits.max_entries = 20'000;
  context.spool.set_disk(1 << 20);
  study::NamedFile subject{make_memory_source(Bytes(bytes.begin(), bytes.end())), "fuzz.bin"};
  for (const study::Leaf& leaf : study::find_leaves(*subject.source, 1000)) {
    if (leaf.end < leaf.begin || leaf.end > bytes.size()) throw std::logic_error("a leaf that ends nowhere");
  }
  study::Findings findings = study::study({subject, 16}, context);
  for (const study::Drafted& drafted : findings.drafts) {
    if (!layout::compile({"draft.layout", drafted.text}, {}, true).plan)
      throw std::logic_error("a draft that does not compile");
  }
}

}  // namespace

std::vector<Target> layout_targets() {
  return {{"layout", look_at_description}, {"study", study_bytes}};
}

}  // namespace operculum::fuzz
