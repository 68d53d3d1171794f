#pragma once

#include <functional>

#include "io/descriptor.h"

namespace operculum {

/// A process that was begun before rights were given up, to do one thing that was agreed then and that this
/// process may not do any more. It is asked to do that or to leave it: who takes over this process can have
/// nothing else done.
class Deputy {
 public:
  enum class Unasked { nothing, duty };

  /// Begins it. `duty` returns an exit status (0: done) and throws nothing. With Unasked::duty it is also
  /// done when this process ends, however it ends, and the deputy has neither its folder nor its input and
  /// output. Throws IoError.
  explicit Deputy(const std::function<int()>& duty, Unasked unasked = Unasked::nothing);
  ~Deputy();
  Deputy(const Deputy&) = delete;
  Deputy& operator=(const Deputy&) = delete;

  /// Has the duty done, and waits for it; returns its status. Throws IoError when the deputy is gone.
  int ask();
  /// There is nothing left to do: it is not done when this process ends, either.
  void excuse();

 private:
  Descriptor line_;
};

}  // namespace operculum
