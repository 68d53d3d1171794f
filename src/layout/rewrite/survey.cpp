#include "layout/rewrite/survey.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/error.h"
#include "base/text.h"

namespace operculum::layout {

Survey::Survey(const DescribedFile& described)
    : file(described),
      container(open_on_trial(file, file.source, &head)),
      looks(container->entries().size() + file.parts.size()),
      extents(looks.size()),
      finder(file, head, container->entries()) {
  std::span<const Entry> entries = container->entries();
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!entries[i].has_data()) continue;
    try {
      looks[i] = container->look(i);
    } catch (const Malformed&) {
      continue;  // damaged before, and left as it is
    }
    extents[i] = extent_of(looks[i], *file.source);
  }
  look_at_parts();
}

/// A part is found by the numbers that were read last before it was decoded.
void Survey::look_at_parts() {
  constexpr std::size_t kMostNumbers = 48;
  for (std::size_t i = 0; i < file.parts.size(); ++i) {
    const PartMade* made = file.parts[i].is_file() ? nullptr : head.part(file.parts[i].ordinal);
    if (made == nullptr) continue;
    EntryLook& look = looks[index_of_part(i)];
    look.recipe = made->recipe;
    auto last = head.numbers.begin() + static_cast<std::ptrdiff_t>(made->numbers);
    auto count = static_cast<std::ptrdiff_t>(std::min(made->numbers, kMostNumbers));
    look.reads.numbers.assign(std::reverse_iterator(last), std::reverse_iterator(last - count));
    if (SourcePtr bytes = stored_bytes(look.recipe))
      extents[index_of_part(i)] = extent_of(*bytes, *file.source);
  }
}

void Survey::fail(const std::string& what) const {
  throw Unsupported(fmt::format("writing {} back: {}", escape(file.plan->title), what));
}

}  // namespace operculum::layout
