#include "layout/compile.h"

#include <algorithm>

#include "layout/plan/compiler.h"
#include "layout/text/parser.h"

namespace operculum::layout {

Compiled compile(Description description, const NamesReader& read_names) {
  Compiled result;
  auto plan = std::make_shared<Plan>();
  plan->description = std::move(description);
  plan->id = plan->description.name.substr(0, plan->description.name.rfind('.'));
  syntax::Layout layout = parse(plan->description, result.problems);
  if (read_names && !layout.names_file.empty()) plan->known_names = read_names(layout.names_file);
  Compiler(*plan, layout, result.problems).run();
  std::stable_sort(result.problems.begin(), result.problems.end(),
                   [](const Problem& a, const Problem& b) { return a.where.at < b.where.at; });
  bool errors = std::any_of(result.problems.begin(), result.problems.end(),
                            [](const Problem& one) { return one.level == Problem::Level::error; });
  if (!errors) result.plan = std::move(plan);
  return result;
}

}  // namespace operculum::layout
