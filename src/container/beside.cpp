#include "container/beside.h"

#include "base/error.h"

namespace operculum {

void Beside::each(const std::function<bool(const Candidate&, const SourcePtr&)>& take) const {
  for (const Candidate& candidate : all()) {
    try {
      SourcePtr file = candidate.open();
      if (file && !take(candidate, file)) return;
    } catch (const Error&) {  // no part
    }
  }
}

}  // namespace operculum
