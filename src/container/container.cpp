#include "container/container.h"

#include <algorithm>

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

}  // namespace

void Container::each(Detail, const std::function<void(const Entry&)>& visitor) {
  for (const Entry& entry : entries()) visitor(entry);
}

void Container::walk(const Visitor& visitor) {
  std::span<const Entry> all = entries();
  for (std::size_t i = 0; i < all.size(); ++i) {
    ContentPtr data;
    if (all[i].has_data()) data = std::make_shared<EntryContent>(shared_from_this(), i);
    if (!visitor({all[i], i, data, nullptr})) return;
  }
}

std::vector<Finding> Container::findings() const {
  std::lock_guard lock(findings_mutex_);
  return findings_;
}

void Container::add_finding(Finding::Level level, std::string text) {
  std::lock_guard lock(findings_mutex_);
  Finding finding{level, std::move(text)};
  if (findings_.size() >= kMaxFindings) return;
  if (std::find(findings_.begin(), findings_.end(), finding) == findings_.end())
    findings_.push_back(std::move(finding));
}

}  // namespace operculum
