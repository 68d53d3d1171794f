#pragma once

#include "base/facts.h"
#include "container/container.h"

namespace operculum {

/// Two trees of the same bytes: one is shown, and locators also find what only the other has. Everything else
/// is asked of the one that is shown.
class TwoViews : public Container {
 public:
  TwoViews(ContainerPtr shown, ContainerPtr other) : shown_(std::move(shown)), other_(std::move(other)) {}

  Access access() const override { return shown_->access(); }
  std::span<const Entry> entries() override { return shown_->entries(); }
  void each(Detail detail, const std::function<void(const Entry&)>& visitor) override {
    shown_->each(detail, visitor);
  }
  ContentPtr content(std::size_t index) override { return shown_->content(index); }
  std::size_t lane(std::size_t index) const override { return shown_->lane(index); }
  /// Where all that is shown would have to be decoded to know, the other one is asked first.
  Lookup find(std::string_view path) override {
    bool costly = shown_->access() == Access::forward;
    Lookup found = (costly ? other_ : shown_)->find(path);
    if (found.kind != Lookup::Kind::nothing) return found;
    Lookup elsewhere = (costly ? shown_ : other_)->find(path);
    return !costly && elsewhere.kind == Lookup::Kind::nothing ? found : elsewhere;
  }
  ContainerPtr written_as() override { return other_; }
  void walk(const Visitor& visitor) override { shown_->walk(visitor); }
  Facts facts() override { return shown_->facts(); }
  bool installs() const override { return shown_->installs(); }
  std::optional<Installation> installation() override { return shown_->installation(); }
  std::vector<Finding> findings() const override {
    std::vector<Finding> all = Container::findings(), inner = shown_->findings();
    all.insert(all.end(), inner.begin(), inner.end());
    return all;
  }

 private:
  ContainerPtr shown_, other_;
};

}  // namespace operculum
