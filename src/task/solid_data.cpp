#include "task/solid_data.h"

#include "base/error.h"

namespace operculum {

SolidData::SolidData(Container& container, SpoolBudget& budget, const Wanted& wanted) {
  SpoolWriter writer(budget);
  container.walk([&](const Visit& visit) {
    if (visit.stream == nullptr || !wanted(visit.index)) return true;
    places_.resize(visit.index + 1);
    try {
      places_[visit.index] = append_stream(writer, *visit.stream);
    } catch (const LimitExceeded&) {
      throw;
    } catch (const std::exception&) {
      places_[visit.index].reset();
    }
    return true;
  });
  all_ = writer.finish();
}

ContentPtr SolidData::content(std::size_t index) const {
  if (index >= places_.size() || !places_[index]) throw Malformed("its data is damaged, or behind damage");
  return make_content(places_[index]->in(all_));
}

}  // namespace operculum
