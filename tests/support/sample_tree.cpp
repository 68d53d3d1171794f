#include "support/sample_tree.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "support/open.h"

namespace operculum::test {

Bytes noise(std::size_t size, std::uint32_t seed) {
  Bytes out(size);
  std::uint32_t state = seed;
  for (Byte& b : out) {
    state = state * 1664525 + 1013904223;
    b = static_cast<Byte>(state >> 24);
  }
  return out;
}

SampleTree sample_tree() {
  std::string table;
  for (int i = 0; i < 3000; ++i)
    table += fmt::format("2026-03-{:02} {:02}:{:02} {} cm\n", i % 31 + 1, i % 24, i % 60, i * 37 % 520);
  SampleTree tree = {
      {.path = "gauge", .kind = EntryKind::folder},
      {.path = "gauge/logs", .kind = EntryKind::folder, .mode = 0700},
      {.path = "gauge/logs/2026", .kind = EntryKind::folder},
      {.path = "empty", .kind = EntryKind::folder},
      {.path = "many", .kind = EntryKind::folder},
      {.path = "crab.txt", .data = to_bytes("pinch\n")},
      {.path = "nothing.bin"},
      {.path = "gauge/table.csv", .data = to_bytes(table)},
      {.path = "gauge/logs/2026/high water at the northern mole.txt", .data = to_bytes("4.97 m\n")},
      {.path = "gauge/noise.bin", .data = noise(70'001)},
      {.path = "gauge/run", .data = to_bytes("#!/bin/sh\nexit 0\n"), .mode = 0755},
  };
  for (int i = 0; i < 60; ++i)
    tree.push_back({.path = fmt::format("many/reading {:03} of the second tide gauge.txt", i),
                    .data = to_bytes(fmt::format("{}\n", i))});
  return tree;
}

SampleTree sample_tree_with_links() {
  SampleTree tree = sample_tree();
  tree.push_back({.path = "latest", .kind = EntryKind::symbolic_link, .target = "gauge/logs/2026"});
  tree.push_back({.path = "gauge/far",
                  .kind = EntryKind::symbolic_link,
                  .target = std::string(150, 'x') + "/../" + std::string(90, 'y')});
  return tree;
}

std::vector<std::size_t> children_of(const SampleTree& tree, const std::string& folder) {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; i < tree.size(); ++i) {
    if (tree[i].parent() == folder) out.push_back(i);
  }
  return out;
}

std::vector<std::size_t> children_by_name(const SampleTree& tree, const std::string& folder) {
  std::vector<std::size_t> out = children_of(tree, folder);
  std::sort(out.begin(), out.end(),
            [&](std::size_t a, std::size_t b) { return tree[a].name() < tree[b].name(); });
  return out;
}

SampleNode folder_node(const SampleTree& tree, const std::string& path) {
  auto found =
      std::find_if(tree.begin(), tree.end(), [&](const SampleNode& node) { return node.path == path; });
  return found != tree.end() ? *found : SampleNode{.path = path, .kind = EntryKind::folder};
}

std::string compare_tree(Held& held, const SampleTree& tree, const std::string& extra) {
  std::map<std::string, std::size_t> found;
  std::span<const Entry> entries = held->entries();
  std::string wrong;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!found.emplace(entries[i].path, i).second) wrong += entries[i].path + ": listed twice\n";
  }
  for (const SampleNode& node : tree) {
    auto at = found.find(node.path);
    if (at == found.end()) {
      wrong += node.path + ": missing\n";
      continue;
    }
    const Entry& entry = entries[at->second];
    if (entry.kind == EntryKind::hard_link && node.kind == EntryKind::file) {  // another name of a file
      auto target = std::find_if(entries.begin(), entries.end(),
                                 [&](const Entry& one) { return one.path == entry.link_target(); });
      if (target == entries.end() || target->size != node.data.size())
        wrong += fmt::format("{}: a link to {}\n", node.path, entry.link_target());
      found.erase(at);
      continue;
    }
    if (entry.kind != node.kind) wrong += fmt::format("{}: is a {}\n", node.path, name_of(entry.kind));
    if (entry.link_target() != node.target)
      wrong += fmt::format("{}: leads to {}\n", node.path, entry.link_target());
    if (node.kind == EntryKind::file) {
      std::string data;
      try {
        data = text_of(*held, at->second);
      } catch (const Error& error) {
        wrong += fmt::format("{}: {}\n", node.path, error.what());
      }
      if (data != as_text(node.data))
        wrong +=
            fmt::format("{}: other data ({} bytes, {} expected)\n", node.path, data.size(), node.data.size());
      if (entry.size != node.data.size())
        wrong += fmt::format("{}: {} bytes stated\n", node.path, entry.size);
    }
    found.erase(at);
  }
  for (const auto& [path, index] : found) {
    if (extra.empty() || !path.starts_with(extra)) wrong += path + ": not expected\n";
  }
  for (const Finding& finding : held->findings()) {
    if (finding.level == Finding::Level::fault) wrong += finding.text + "\n";
  }
  return wrong;
}

}  // namespace operculum::test
