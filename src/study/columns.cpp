#include "study/columns.h"

#include <algorithm>

namespace operculum::study {

std::string_view name_of(Role role) {
  constexpr std::string_view kNames[] = {"offset",
                                         "end of data",
                                         "size",
                                         "unpacked size",
                                         "name",
                                         "place of name",
                                         "packing",
                                         "checksum",
                                         "time",
                                         "size of a part",
                                         "folder",
                                         "depth",
                                         "end of folder",
                                         "first in folder",
                                         "number in folder",
                                         "next in folder",
                                         "hash of name",
                                         "not known"};
  return kNames[static_cast<std::size_t>(role)];
}

std::vector<bool> free_bytes(const std::vector<Column>& columns, std::size_t fixed, ShortNames names) {
  std::vector<bool> free(fixed, true);
  for (const Column& column : columns) {
    bool doubtful = column.role == Role::name && column.width <= 4;
    if (doubtful && names == ShortNames::may_be_numbers) continue;
    for (std::size_t i = column.at; i < column.at + column.width && i < fixed; ++i) free[i] = false;
  }
  return free;
}

bool may_lie(const Grid& grid, const std::vector<bool>& free, std::size_t at, NumberForm form) {
  if (grid.varies() && at < grid.shape.before && at + form.width > grid.shape.before) return false;
  auto begin = free.begin() + static_cast<std::ptrdiff_t>(at);
  return std::all_of(begin, begin + form.width, [](bool one) { return one; });
}

}  // namespace operculum::study
