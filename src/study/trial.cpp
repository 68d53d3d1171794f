#include "study/trial.h"

#include <fmt/format.h>

#include "layout/compile.h"

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

/// How much of a file stays unexplained, in bytes.
std::uint64_t unexplained(const std::vector<layout::CoverRange>& ranges) {
  std::uint64_t bytes = 0;
  for (const layout::CoverRange& range : ranges) {
    if (range.kind == layout::CoverRange::Kind::unexplained) bytes += range.end - range.begin;
  }
  return bytes;
}

}  // namespace

std::shared_ptr<layout::DescribedContainer> open_draft(const std::string& draft, const Subject& subject,
                                                       OpenContext& context, layout::Tracer* tracer,
                                                       std::string& problem) {
  layout::Compiled compiled = layout::compile({"draft.layout", draft}, {}, true);
  if (!compiled.plan) {
    problem = compiled.problems.empty() ? "it does not compile" : compiled.problems.front().text;
    return nullptr;
  }
  NamedFile main = subject.main();
  Input input{make_content(main.source), main.name};
  if (subject.index) {
    input.sibling.open = [other = subject.other()](const std::string& name) {
      return name == other.name ? other.source : nullptr;
    };
  }
  return layout::open_described(compiled.plan, input, main.source, context, tracer);
}

Trial try_draft(const std::string& draft, const Subject& subject, OpenContext& context,
                std::uint64_t most_bytes) {
  Trial trial;
  layout::Tracer tracer;
  try {
    auto container = open_draft(draft, subject, context, &tracer, trial.failure);
    if (!container) return trial;
    trial.entries = container->entries().size();
    for (const Finding& finding : container->findings()) {
      if (finding.level == Finding::Level::fault) trial.failure = finding.text;
    }
    std::uint64_t bytes = 0;
    for (std::size_t i = 0; i < trial.entries && bytes < most_bytes; ++i) {
      if (!container->entries()[i].has_data()) continue;
      auto [right, count] = read_entry(*container, i);
      bytes += count;
      ++trial.read;
      trial.failed += right ? 0 : 1;
    }
    container->observe_all(tracer);
  } catch (const std::exception& thrown) {
    trial.failure = as_error(thrown).what();
  }
  trial.ranges = tracer.ranges(*subject.main().source);
  std::uint64_t open = unexplained(trial.ranges), all = subject.main().source->size();
  if (subject.index) {
    NamedFile other = subject.other();
    open += unexplained(tracer.ranges_of(other.name, *other.source));
    all += other.source->size();
  }
  trial.explained = 1 - static_cast<double>(open) / static_cast<double>(std::max<std::uint64_t>(all, 1));
  return trial;
}

}  // namespace operculum::study
