#include "layout/compile.h"

#include <fmt/format.h>

#include <algorithm>

#include "layout/plan/compiler.h"
#include "layout/text/parser.h"

namespace operculum::layout {

namespace {

constexpr std::size_t kMostTold = 100;

/// Nobody reads hundreds of problems; what has so many is hardly a description.
void keep_first(std::vector<Problem>& problems) {
  if (problems.size() <= kMostTold) return;
  Problem rest{Problem::Level::error, problems[kMostTold].where,
               fmt::format("{} more problems are not shown", problems.size() - kMostTold),
               "mend those above first; is this a description at all?"};
  problems.resize(kMostTold);
  problems.push_back(std::move(rest));
}

}  // namespace

Compiled compile(Description description, const NamesReader& read_names, bool stranger) {
  Compiled result;
  auto plan = std::make_shared<Plan>();
  plan->stranger = stranger;
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
  keep_first(result.problems);
  return result;
}

}  // namespace operculum::layout
