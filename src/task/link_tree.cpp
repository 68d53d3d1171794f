#include "task/link_tree.h"

#include <vector>

#include "base/text.h"

namespace operculum {
namespace {

constexpr int kMostFollowed = 40;  // links in one path; the kernel gives up there, too (path_resolution(7))

/// Puts the parts of a path on a stack whose top is the first of them.
void push_parts(std::vector<std::string>& stack, std::string_view path) {
  std::vector<std::string_view> parts = split(path, '/');
  for (auto part = parts.rbegin(); part != parts.rend(); ++part) {
    if (!part->empty() && *part != ".") stack.emplace_back(*part);
  }
}

}  // namespace

std::optional<std::string> LinkTree::link_at(const std::string& path) const {
  auto found = links_.find(path);
  return found != links_.end() ? std::optional(found->second) : there_(path);
}

Leads LinkTree::where(const std::string& path) const {
  std::vector<std::string> to_go;
  push_parts(to_go, path);
  std::string at;  // the folder reached so far
  for (int followed = 0; !to_go.empty();) {
    std::string part = std::move(to_go.back());
    to_go.pop_back();
    std::size_t slash = at.rfind('/');
    if (part == "..") {
      if (at.empty()) return Leads::out;
      at.resize(slash == std::string::npos ? 0 : slash);
      continue;
    }
    std::string next = at.empty() ? part : at + "/" + part;
    auto target = link_at(next);
    if (!target) {
      at = std::move(next);
      continue;
    }
    if (target->starts_with('/')) return Leads::absolute;
    if (++followed > kMostFollowed) return Leads::inside;
    push_parts(to_go, *target);
  }
  return Leads::inside;
}

}  // namespace operculum
