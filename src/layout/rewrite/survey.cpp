#include "layout/rewrite/survey.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"

namespace operculum::layout {

Extent extent_of(const Source& bytes, const Source& base) {
  auto run = trace(bytes, 0, base);
  if (!run || run->length < bytes.size()) return {};
  return {run->at, bytes.size(), true};
}

Survey::Survey(const DescribedFile& described)
    : file(described),
      container(open_on_trial(file, file.source, &head)),
      looks(container->entries().size()),
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
    const RecipePtr& recipe = looks[i].recipe;
    if (recipe && recipe->source) extents[i] = extent_of(*recipe->source, *file.source);
  }
}

void Survey::fail(const std::string& what) const {
  throw Unsupported(fmt::format("writing {} back: {}", escape(file.plan->title), what));
}

}  // namespace operculum::layout
