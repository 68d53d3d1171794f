#include "study/stated.h"

#include <algorithm>
#include <bit>

namespace operculum::study {
namespace {

constexpr double kKeyed = 30;  // bits against a key: there are many, and any makes something of any bytes
constexpr std::uint64_t kUsualTrailer = 64;  // bytes behind everything else

/// The condition under which records go on, when what follows the last one has filling, zeros or ones, where
/// each of them has a number that is none.
std::optional<std::string> filling_behind(const Hypothesis& found) {
  const Grid& grid = found.grid;
  const Space& space = *grid.space;
  if (grid.decoded()) return std::nullopt;
  for (const Column& column : found.columns) {
    bool number = column.role == Role::offset || column.role == Role::size;
    if (!number || column.mask != 0 || column.bits != 0 || (grid.varies() && column.at >= grid.shape.before))
      continue;
    std::uint64_t behind = grid.end + column.at;
    if (behind < space.at || behind + column.width > space.end()) continue;
    std::uint64_t filling = read_number(space.bytes.data() + (behind - space.at), column.form);
    if (filling != all_ones(column.form) && (filling != 0 || column.width < 4)) continue;
    bool told = true;
    for (std::size_t row = 0; told && row < grid.rows(); ++row)
      told = grid.value(row, column.at, column.form) != filling;
    if (!told) continue;
    std::string here = column.at == 0 ? "here" : fmt::format("here + {}", column.at);
    return fmt::format("while ({} at {}) != {:#x}", type_of(column.form, column.form.big), here, filling);
  }
  return std::nullopt;
}

void explain_count(Hypothesis& found, Lookup& lookup) {
  const Grid& grid = found.grid;
  std::uint64_t bytes = grid.end - grid.begin, stride = grid.varies() ? 0 : grid.shape.fixed();
  const Space& space = *grid.space;
  if (auto count = lookup.stated(grid.count, "count", "as many records as there are")) {
    found.count = *count;
    found.bits += std::min(14.0, 2.0 * static_cast<double>(std::bit_width(grid.count)));
    found.evidence.push_back(fmt::format("{} tells the number of records, {}", *count, grid.count));
    return;
  }
  for (std::uint64_t more : {1, 2}) {
    if (grid.count < 3 + more) break;
    if (auto count = lookup.stated(grid.count - more, "count",
                                   fmt::format("as many entries as there are; there {} more",
                                               more == 1 ? "is one record" : "are two records"))) {
      found.count = fmt::format("{} + {}", *count, more);
      found.bits += std::min(
          12.0, 2.0 * static_cast<double>(std::bit_width(grid.count)) - 2.0 * static_cast<double>(more));
      return;
    }
  }
  if (stride > 0) {
    if (auto size = lookup.stated(bytes, "index_size", "the bytes of all records")) {
      found.count = fmt::format("{} / {}", *size, stride);
      found.bits += 14;
      return;
    }
    if (auto end = lookup.stated(grid.end, "index_end", "where the records end")) {
      found.count = fmt::format("({} - {}) / {}", *end, found.begin, stride);
      found.bits += 12;
      return;
    }
  }
  bool to_end = space.keyed() ? space.stored_at + grid.end == space.holder_size
                : space.plain ? grid.end == space.file_size
                              : grid.end == space.end();
  if (to_end) {
    found.bits += 8;
    found.evidence.push_back("records go on to the end");
    return;
  }
  const Placement& placement = found.placement;
  if (space.plain && stride > 0 && placement.offset && placement.offset->bits == 0 &&
      placement.offset->counted == PlaceCount::up && placement.base == 0 && placement.in_order &&
      placement.begin == grid.end) {
    // The first record's offset tells where the table ends.
    const Column& offset = *placement.offset;
    std::string type = type_of(offset.form, offset.form.big);
    std::string at = found.begin == "0" ? std::to_string(offset.at)
                     : offset.at == 0   ? found.begin
                                        : fmt::format("{} + {}", found.begin, offset.at);
    std::string end = fmt::format("({} at {})", type, at);
    if (offset.mask != 0) end = fmt::format("({} xor {:#x})", end, offset.mask);
    if (offset.factor != 1) end += fmt::format(" * {}", offset.factor);
    found.count = found.begin == "0" ? fmt::format("{} / {}", end, stride)
                                     : fmt::format("({} - {}) / {}", end, found.begin, stride);
    found.bits += 8;
    found.evidence.push_back("the first offset tells where the records end");
    return;
  }
  if (auto last = filling_behind(found)) {
    found.goes_on = *last;
    found.bits += 6;
    found.evidence.push_back("filling stands where the record behind the last one would be");
    return;
  }
  if (std::uint64_t rest = space.file_size - grid.end; grid.shape.data_behind && rest <= kUsualTrailer) {
    found.goes_on = fmt::format("while here < end - {}", rest);
    found.evidence.push_back(fmt::format("records go on to the last {} bytes", rest));
    return;
  }
  found.count = std::to_string(grid.count);
  found.unexplained_count = "the number of records is not stated anywhere that was looked at";
  found.bits -= 10;
}

void explain_begin(Hypothesis& found, Lookup& lookup, std::uint64_t file_size) {
  const Grid& grid = found.grid;
  found.begin = std::to_string(grid.begin);
  if (!grid.space->plain) {  // told with the index; what lies in front of records has to be something
    found.bits += 10 - std::min(20.0, static_cast<double>(grid.begin) / 2);
    return;
  }
  std::uint64_t stride = grid.varies() ? 0 : grid.shape.fixed();
  if (grid.begin <= kFarTable && grid.begin <= found.placement.begin) {
    found.bits += 10;  // right behind a header of the usual size
    return;
  }
  if (auto begin = lookup.stated(grid.begin, "index", "where the records begin")) {
    found.begin = *begin;
    found.bits += 14;
    found.evidence.push_back(fmt::format("{} tells where the records begin, {}", *begin, grid.begin));
    return;
  }
  std::uint64_t behind = file_size - std::min(file_size, grid.begin);
  if (auto back = lookup.stated(behind, "index_back", "where the records begin, from the end of the file")) {
    found.begin = fmt::format("end - {}", *back);
    found.bits += 14;
    return;
  }
  for (std::uint64_t factor : {512, 2048, 16, 4}) {
    if (grid.begin % factor != 0) continue;
    if (auto begin = lookup.stated(grid.begin / factor, "index",
                                   fmt::format("where the records begin, in units of {} bytes", factor))) {
      found.begin = fmt::format("{} * {}", *begin, factor);
      found.bits += 10;
      return;
    }
  }
  for (std::uint64_t base : {8, 12, 16, 20, 24, 32}) {
    if (grid.begin < base + 16) continue;
    if (auto begin = lookup.stated(grid.begin - base, "index",
                                   fmt::format("where the records begin, from byte {} on", base))) {
      found.begin = fmt::format("{} + {}", *begin, base);
      found.bits += 8;
      return;
    }
  }
  if (stride > 0 && grid.end + Frame::kTail >= file_size && found.placement.end <= grid.begin) {
    if (auto count = lookup.stated(grid.count, "count", "as many records as there are")) {
      std::uint64_t trailer = file_size - grid.end;
      found.count = *count;
      found.begin = fmt::format("end - {} - {} * {}", trailer, *count, stride);
      found.bits += 20 - static_cast<double>(trailer) / 2;
      return;
    }
  }
  if (found.placement.end == grid.begin || found.placement.begin > grid.begin) {
    found.bits -= grid.begin > 256 ? 12 : 0;
    return;
  }
  found.bits -= 12;
}

/// Where places count from that are not counted up.
void explain_counted(Hypothesis& found, Lookup& lookup) {
  const Column& offset = *found.placement.offset;
  const Grid& grid = found.grid;
  std::uint64_t place = found.placement.base + offset.from;
  if (offset.counted == PlaceCount::own) {
    found.counted_from = place == 0 ? "start" : fmt::format("start + {}", place);
    found.evidence.push_back("places are counted from where their own record lies");
    return;
  }
  found.evidence.push_back("places are counted back");
  if (place == grid.space->file_size) {
    found.counted_from = "end";
  } else if (auto stated =
                 lookup.stated(place, "data_end", "where the data ends; places count back from it")) {
    found.counted_from = *stated;
    found.bits += 10;
  } else {
    found.counted_from = grid.space->plain && place == grid.begin ? found.begin : std::to_string(place);
  }
}

void explain_base(Hypothesis& found, Lookup& lookup) {
  Placement& placement = found.placement;
  const Grid& grid = found.grid;
  if (!placement.offset) {  // one behind the other: where the first one begins
    found.base = "";
    return;
  }
  if (placement.offset->counted != PlaceCount::up) return explain_counted(found, lookup);
  if (placement.base == 0) return;
  if (auto base = lookup.stated(placement.base, "data", "where offsets count from")) {
    found.base = *base;
    found.bits += 10;
    return;
  }
  bool here = grid.space->plain;
  if (here && placement.base == grid.end) {
    found.base = "items_end";
    found.bits += 6;
    return;
  }
  for (std::uint64_t align : kAlignments) {
    if (!here || placement.base != round_up(grid.end, align)) continue;
    found.base = fmt::format("align(items_end, {})", align);
    found.bits += 4;
    return;
  }
  if (here && placement.base == grid.begin) {
    found.base = found.begin;
    return;
  }
  std::uint64_t from_end = grid.space->file_size - std::min(grid.space->file_size, placement.base);
  if (auto size = lookup.stated(from_end, "data_size", "bytes from where offsets count to the end")) {
    found.base = fmt::format("end - {}", *size);
    found.bits += 10;
    return;
  }
  found.base = std::to_string(placement.base);
  found.bits -= placement.base <= kFarTable ? 2 : 14;
}

void explain_packed(Hypothesis& found, Lookup& lookup) {
  const Space& space = *found.grid.space;
  if (!space.disguised()) return;
  found.space_at = std::to_string(space.stored_at);
  if (space.stored_at > kFarTable && !space.beside) {
    if (auto at = lookup.stated(space.stored_at, "index_at", "where the index begins")) {
      found.space_at = *at;
      found.bits += 12;
    }
  }
  if (space.keyed()) {                                         // as far as the records go
    found.bits -= found.placement.size ? kKeyed : 2 * kKeyed;  // places that rise alone are easily made
    return;
  }
  found.packed_size = std::to_string(space.stored_size);
  if (auto size = lookup.stated(space.stored_size, "index_size", "bytes of the index as it lies here")) {
    found.packed_size = *size;
    found.bits += 10;
  } else if (space.stored_at + space.stored_size == space.holder_size) {
    found.packed_size = "";
    found.bits += 8;
  }
  lookup.stated(space.bytes.size(), "index_length", "bytes of the index when it is decoded");
}

}  // namespace

void explain_stated(Hypothesis& found, Lookup& lookup, std::uint64_t file_size) {
  explain_begin(found, lookup, file_size);
  if (found.count.empty()) explain_count(found, lookup);
  explain_packed(found, lookup);
  explain_base(found, lookup);
}

}  // namespace operculum::study
