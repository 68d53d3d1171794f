#pragma once

#include <algorithm>

#include "base/error.h"
#include "layout/described_container.h"
#include "layout/library.h"
#include "support/packs.h"

namespace operculum::test {

/// A pack opened from memory, with its description and its files beside it.
struct OpenPack {
  std::unique_ptr<OpenContext> context = std::make_unique<OpenContext>();
  std::shared_ptr<Container> container;

  OpenPack(const Pack& pack, const Bytes& bytes) {
    static std::map<std::string, std::shared_ptr<const layout::Plan>> plans;
    auto& plan = plans[pack.layout];
    if (!plan)
      plan = layout::Library::read(std::string(OPERCULUM_SOURCE) + "/layouts/" + pack.layout + ".layout",
                                   layout::Trust::own)
                 .compiled.plan;
    if (!pack.key.empty()) context->keys.add_named("gauge master", {pack.key, "the test"});
    SourcePtr source = make_memory_source(bytes);
    auto sibling = [beside = pack.beside](const std::string& name) -> SourcePtr {
      auto found = beside.find(name);
      return found == beside.end() ? nullptr : make_memory_source(found->second);
    };
    container =
        layout::open_described(plan, {make_content(source), pack.name, {sibling, {}}}, source, *context);
  }

  bool has_folder(const std::string& path) const {
    std::span<const Entry> entries = container->entries();
    return std::any_of(entries.begin(), entries.end(),
                       [&](const Entry& one) { return one.kind == EntryKind::folder && one.path == path; });
  }

  std::map<std::string, std::string> contents() const {
    std::map<std::string, std::string> all;
    std::span<const Entry> entries = container->entries();
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (!entries[i].has_data()) continue;
      try {
        Bytes data = read_all(*container->content(i)->stream(), 1 << 20);
        all[entries[i].path] = std::string(as_text(data));
      } catch (const Error&) {
        // told; this entry is not claimed to be right
      }
    }
    return all;
  }
};

}  // namespace operculum::test
