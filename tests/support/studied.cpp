#include "support/studied.h"

#include <fmt/format.h>

#include "layout/compile.h"
#include "layout/described_container.h"
#include "study/study.h"
#include "support/sample_tree.h"

namespace operculum::test {

std::vector<File> exhibits(std::size_t count) {
  constexpr std::string_view kNames[] = {"limpet", "whelk", "eel", "cockle", "tern", "gull", "pier", "lamp"};
  std::vector<File> files;
  for (std::size_t i = 0; i < count; ++i) {
    auto number = static_cast<std::uint32_t>(i);
    files.push_back({fmt::format("{}{}.bin", kNames[i % 8], i), noise(100 + i * 37 % 311 + i, number)});
  }
  return files;
}

std::string padded(const std::string& name, std::size_t size) {
  std::string all = name;
  all.resize(size);
  return all;
}

ContainerPtr opened_by(const std::string& draft, const SourcePtr& source, OpenContext& context) {
  layout::Compiled compiled = layout::compile({"draft.layout", draft}, {}, true);
  return layout::open_described(compiled.plan, {make_content(source), "store.bay"}, source, context);
}

std::vector<File> files_in(Container& container) {
  std::vector<File> files;
  std::size_t count = container.entries().size();
  for (std::size_t i = 0; i < count; ++i)
    files.push_back({container.entries()[i].path, read_all(*container.content(i)->stream(), 1 << 20)});
  return files;
}

Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors, OpenContext& context) {
  SourcePtr source = make_memory_source(bytes);
  study::Findings findings = study::study({{source, "store.bay"}, 4, {}, {}, std::move(anchors)}, context);
  if (!findings.solved()) return {"none", {}};
  const std::string& draft = findings.drafts.front().text;
  return {draft, files_in(*opened_by(draft, source, context))};
}

Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors) {
  OpenContext context;
  return studied(bytes, std::move(anchors), context);
}

}  // namespace operculum::test
