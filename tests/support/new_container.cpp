#include "support/new_container.h"

#include <algorithm>

#include "container/format.h"

namespace operculum::test {

NewContainer::NewContainer(const std::string& format, const std::string& method)
    : format_(format), method_(method) {}

NewContainer& NewContainer::add(const std::string& path, std::string_view text) {
  NewEntry entry;
  entry.path = path;
  entry.modified = from_unix(1772373908);
  entry.size = text.size();
  entry.content = make_content(make_memory_source(Bytes(text.begin(), text.end())));
  return add(std::move(entry));
}

NewContainer& NewContainer::add(NewEntry entry) {
  entries_.push_back(std::move(entry));
  return *this;
}

Bytes NewContainer::bytes() const {
  auto format =
      std::find_if(formats().begin(), formats().end(), [&](const Format& one) { return one.id == format_; });
  SpoolBudget budget;
  PackChoice choice;
  choice.method = method_;
  SourcePtr made =
      format->pack(entries_, {choice, budget, [](const std::string&, const std::string&) {}}).source();
  return read_up_to(*made, 0, made->size());
}

}  // namespace operculum::test
