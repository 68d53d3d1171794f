#include "layout/plan/static_type.h"

#include <fmt/format.h>

#include "layout/plan/read_plan.h"

namespace operculum::layout {

std::string StaticType::name() const {
  std::string_view one = "an unknown thing", many = "unknown things";
  switch (base) {
    case Base::number:
      one = "a number", many = "numbers";
      break;
    case Base::truth:
      one = "a condition", many = "conditions";
      break;
    case Base::time:
      one = "a time", many = "times";
      break;
    case Base::text:
      one = "a text", many = "texts";
      break;
    case Base::bytes:
      one = "bytes", many = "runs of bytes";
      break;
    case Base::key:
      one = "a key, which only ciphers take", many = "keys";
      break;
    default:
      break;
  }
  std::string first(one), rest(many);
  if (base == Base::record && record != nullptr) {
    first = fmt::format("a {} record", record->name);
    rest = fmt::format("{} records", record->name);
  }
  if (depth == 0) return first;
  std::string text = "a list of ";
  for (int i = 1; i < depth; ++i) text += "lists of ";
  return text + rest;
}

}  // namespace operculum::layout
