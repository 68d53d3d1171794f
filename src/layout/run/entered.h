#pragma once

#include "layout/run/run.h"

namespace operculum::layout {

/// Tells the observer, where there is one, what is read until this is gone.
class Entered {
 public:
  Entered(Run& run, const std::string& name) : observer_(run.observer) {
    if (observer_ != nullptr) observer_->enter(name);
  }
  ~Entered() {
    if (observer_ != nullptr) observer_->leave();
  }
  Entered(const Entered&) = delete;
  Entered& operator=(const Entered&) = delete;

 private:
  Observer* observer_;
};

}  // namespace operculum::layout
