#include "study/trial.h"

#include <fmt/format.h>

#include "layout/compile.h"
#include "layout/described_container.h"

namespace operculum::study {
namespace {

/// Reads an entry to its end; false when that fails.
std::pair<bool, std::uint64_t> read_entry(Container& container, std::size_t index) {
  std::uint64_t bytes = 0;
  try {
    Bytes buffer(64 * 1024);
    StreamPtr stream = container.content(index)->stream();
    while (std::size_t count = stream->read(buffer)) bytes += count;
    return {true, bytes};
  } catch (const std::exception&) {
    return {false, bytes};
  }
}

}  // namespace

Trial try_draft(const std::string& draft, const Subject& subject, OpenContext& context,
                std::uint64_t most_bytes) {
  Trial trial;
  layout::Compiled compiled = layout::compile({"draft.layout", draft}, {}, true);
  if (!compiled.plan) {
    trial.failure = compiled.problems.empty() ? "it does not compile" : compiled.problems.front().text;
    return trial;
  }
  layout::Tracer tracer;
  try {
    Input input{make_content(subject.source), subject.name};
    auto container = layout::open_described(compiled.plan, input, subject.source, context, &tracer);
    trial.entries = container->entries().size();
    for (const Finding& finding : container->findings()) {
      if (finding.level == Finding::Level::fault) trial.failure = finding.text;
    }
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < trial.entries && bytes < most_bytes; ++i) {
      auto [right, count] = read_entry(*container, i);
      bytes += count;
      ++trial.read;
      trial.failed += right ? 0 : 1;
    }
    container->observe_all(tracer);
  } catch (const std::exception& thrown) {
    trial.failure = as_error(thrown).what();
  }
  trial.ranges = tracer.ranges(*subject.source);
  std::uint64_t unexplained = 0;
  for (const layout::CoverRange& range : trial.ranges) {
    if (range.kind == layout::CoverRange::Kind::unexplained) unexplained += range.end - range.begin;
  }
  trial.explained =
      1 - static_cast<double>(unexplained) / static_cast<double>(std::max<std::uint64_t>(subject.size(), 1));
  return trial;
}

}  // namespace operculum::study
