#include "container/container.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "base/text.h"
#include "container/numbered_path.h"
#include "container/rewrite.h"
#include "container/trim.h"

namespace operculum {

namespace {

/// The data of one entry, opened when it is asked for: what opening throws belongs to that entry alone.
class EntryContent final : public Content {
 public:
  EntryContent(ContainerPtr container, std::size_t index) : container_(std::move(container)), index_(index) {}
  StreamPtr stream() const override { return container_->content(index_)->stream(); }
  SourcePtr source() const override { return container_->content(index_)->source(); }

 private:
  ContainerPtr container_;
  std::size_t index_;
};

std::optional<std::size_t> numbered(std::span<const Entry> all, std::string_view path) {
  auto wanted = NumberedPath::parse(path);
  if (!wanted) return std::nullopt;
  for (std::size_t i = 0; i < all.size(); ++i)
    if (all[i].path == wanted->plain && all[i].kind != EntryKind::folder && wanted->number-- == 1) return i;
  return std::nullopt;
}

}  // namespace

void Container::each(Detail, const std::function<void(const Entry&)>& visitor) {
  for (const Entry& entry : entries()) visitor(entry);
}

std::vector<Footprint> Container::footprint(std::size_t index) {
  const Entry& entry = entries()[index];
  if (entry.stored_at == Entry::kUnknownSize) return {};
  if (entry.stored_size == Entry::kUnknownSize || entry.stored_size == 0) return {};
  return {{entry.stored_at, entry.stored_size}};
}

Assembly Container::rewrite(const Changes&, const Writing&) {
  throw Unsupported("writing this kind of container");
}

std::optional<Trimmed> Container::trimmed(Look) {
  return std::nullopt;
}

Lookup Container::find(std::string_view path) {
  std::span<const Entry> all = entries();
  Lookup result;
  std::optional<std::size_t> best;
  bool folder = false;
  for (std::size_t i = 0; i < all.size(); ++i) {
    std::string_view own = all[i].path;
    if (own.size() > path.size()) {
      folder |= own.starts_with(path) && own[path.size()] == '/';
      continue;
    }
    if (!path.starts_with(own) || (own.size() < path.size() && path[own.size()] != '/')) continue;
    if (all[i].kind == EntryKind::folder) {
      folder |= own.size() == path.size();
      continue;
    }
    if (!best || own.size() >= all[*best].path.size())
      best = i;  // of equals the last stored is the current one
  }
  std::size_t consumed = best ? all[*best].path.size() : path.size();
  if (!folder && !best) best = numbered(all, path);
  if (folder) {
    result.kind = Lookup::Kind::folder;
    result.path = path;
  } else if (best) {
    result.kind = Lookup::Kind::entry;
    result.consumed = consumed;
    result.entry = std::shared_ptr<const Entry>(shared_from_this(), &all[*best]);
    result.open = [self = shared_from_this(), index = *best] { return self->content(index); };
  } else {
    std::string wanted = to_lower(base_name(path));
    auto similar = std::find_if(all.begin(), all.end(), [&](const Entry& entry) {
      return to_lower(base_name(entry.path)) == wanted;
    });
    if (similar != all.end()) result.similar = similar->path;
  }
  return result;
}

void Container::walk(const Visitor& visitor) {
  std::span<const Entry> all = entries();
  for (std::size_t i = 0; i < all.size(); ++i) {
    ContentPtr data;
    if (all[i].has_data()) data = std::make_shared<EntryContent>(shared_from_this(), i);
    if (!visitor({all[i], i, data, nullptr, lane(i)})) return;
  }
}

std::vector<Finding> Container::findings() const {
  std::lock_guard lock(findings_mutex_);
  if (more_findings_ == 0) return findings_;
  std::vector<Finding> all = findings_;
  all.push_back({Finding::Level::warning,
                 fmt::format("{} more things were found that are not told here", more_findings_)});
  return all;
}

void Container::add_finding(Finding::Level level, std::string text, Finding::About about) {
  std::lock_guard lock(findings_mutex_);
  text = printable(text);  // it may hold words of the container
  Finding finding{level, std::move(text), about};
  if (std::find(findings_.begin(), findings_.end(), finding) != findings_.end()) return;
  if (findings_.size() < kMaxFindings) {
    findings_.push_back(std::move(finding));
  } else {
    ++more_findings_;
  }
}

}  // namespace operculum
