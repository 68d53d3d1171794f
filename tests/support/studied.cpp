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

Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors, OpenContext& context) {
  SourcePtr source = make_memory_source(bytes);
  study::Findings findings = study::study({source, "store.bay"}, 4, context, {}, std::move(anchors));
  if (!findings.solved()) return {"none", {}};
  Studied all{findings.drafts.front().text, {}};
  layout::Compiled compiled = layout::compile({"draft.layout", all.draft}, {}, true);
  auto container =
      layout::open_described(compiled.plan, {make_content(source), "store.bay"}, source, context);
  std::size_t count = container->entries().size();
  for (std::size_t i = 0; i < count; ++i)
    all.files.push_back({container->entries()[i].path, read_all(*container->content(i)->stream(), 1 << 20)});
  return all;
}

Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors) {
  OpenContext context;
  return studied(bytes, std::move(anchors), context);
}

}  // namespace operculum::test
