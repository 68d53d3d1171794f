#include "study/hypothesis.h"

#include <algorithm>
#include <bit>

#include "study/packing.h"

namespace operculum::study {
namespace {

constexpr std::uint64_t kFarTable = 64;  // a table that begins later should be told where

/// Looks numbers up in the frame and notes what uses them.
class Lookup {
 public:
  Lookup(const Frame& frame, std::vector<HeadField>& used, bool big)
      : frame_(frame), used_(used), big_(big) {}

  /// An expression for the number, when it is stated; the field gets that name.
  std::optional<std::string> stated(std::uint64_t value, const std::string& name, const std::string& why) {
    auto field = frame_.find(value, used_, big_);
    if (!field) return std::nullopt;
    field->name = name;
    field->why = why;
    used_.push_back(*field);
    return expression_of(*field);
  }

  static std::string expression_of(const HeadField& field) {
    constexpr std::string_view kRecords[] = {"head", "tail", "front"};
    return fmt::format("{}.{}", kRecords[static_cast<std::size_t>(field.part)], field.name);
  }

 private:
  const Frame& frame_;
  std::vector<HeadField>& used_;
  bool big_;
};

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
  if (grid.count > 3) {
    if (auto count = lookup.stated(grid.count - 1, "count",
                                   "as many entries as there are; one record more tells where they end")) {
      found.count = *count + " + 1";
      found.bits += std::min(12.0, 2.0 * static_cast<double>(std::bit_width(grid.count)) - 2);
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
  bool to_end = space.keyed   ? space.stored_at + grid.end == space.data_size
                : space.plain ? grid.end == space.data_size && space.data_file.empty()
                              : grid.end == space.end();
  if (!space.data_file.empty() && space.plain) to_end = grid.end == space.end();
  if (to_end) {
    found.bits += 8;
    found.evidence.push_back("records go on to the end");
    return;
  }
  const Placement& placement = found.placement;
  if (stride > 0 && placement.offset && placement.base == 0 && placement.in_order &&
      placement.begin == grid.end) {
    // The first record's offset tells where the table ends.
    const Column& offset = *placement.offset;
    std::string type = type_of(offset.form, offset.form.big);
    found.count =
        fmt::format("((({} at {} + {}){}){} - {}) / {}", type, found.begin, offset.at,
                    offset.mask != 0 ? fmt::format(" xor {:#x}", offset.mask) : "",
                    offset.factor != 1 ? fmt::format(" * {}", offset.factor) : "", found.begin, stride);
    found.bits += 8;
    found.evidence.push_back("the first offset tells where the records end");
    return;
  }
  found.count = std::to_string(grid.count);
  found.unexplained_count = "the number of records is not stated anywhere that was looked at";
  found.bits -= 10;
}

void explain_begin(Hypothesis& found, Lookup& lookup, const Subject& subject) {
  const Grid& grid = found.grid;
  found.begin = std::to_string(grid.begin);
  if (!grid.space->plain) return;  // told with the index
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
  std::uint64_t behind = subject.size() - std::min(subject.size(), grid.begin);
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
  if (stride > 0 && grid.end + Frame::kTail >= subject.size() && found.placement.end <= grid.begin) {
    if (auto count = lookup.stated(grid.count, "count", "as many records as there are")) {
      std::uint64_t trailer = subject.size() - grid.end;
      found.count = *count;
      found.begin = fmt::format("end - {} - {} * {}", trailer, *count, stride);
      found.bits += 20;
      return;
    }
  }
  if (found.placement.end == grid.begin || found.placement.begin > grid.begin) {
    found.bits -= grid.begin > 256 ? 12 : 0;
    return;
  }
  found.bits -= 12;
}

void explain_base(Hypothesis& found, Lookup& lookup) {
  Placement& placement = found.placement;
  const Grid& grid = found.grid;
  if (!placement.offset) {  // one behind the other: where the first one begins
    found.base = "";
    return;
  }
  if (placement.base == 0) return;
  if (auto base = lookup.stated(placement.base, "data", "where offsets count from")) {
    found.base = *base;
    found.bits += 10;
    return;
  }
  bool here = grid.space->plain && grid.space->data_file.empty();
  if (here && placement.base == grid.end) {
    found.base = "items_end";
    found.bits += 6;
    return;
  }
  for (std::uint64_t align : {4, 16, 512, 2048}) {
    if (!here || placement.base != round_up(grid.end, align)) continue;
    found.base = fmt::format("align(items_end, {})", align);
    found.bits += 4;
    return;
  }
  if (here && placement.base == grid.begin) {
    found.base = found.begin;
    return;
  }
  found.base = std::to_string(placement.base);
  found.bits -= placement.base <= kFarTable ? 2 : 14;
}

void explain_packed(Hypothesis& found, Lookup& lookup) {
  const Space& space = *found.grid.space;
  if (space.plain) return;
  found.space_at = std::to_string(space.stored_at);
  if (space.stored_at > kFarTable) {
    if (auto at = lookup.stated(space.stored_at, "index_at", "where the index begins")) {
      found.space_at = *at;
      found.bits += 12;
    }
  }
  if (space.keyed) return;  // as far as the records go
  found.packed_size = std::to_string(space.stored_size);
  if (auto size = lookup.stated(space.stored_size, "index_size", "bytes of the index as it lies here")) {
    found.packed_size = *size;
    found.bits += 10;
  } else if (space.stored_at + space.stored_size == space.data_size) {
    found.packed_size = "";
    found.bits += 8;
  }
  lookup.stated(space.bytes.size(), "index_length", "bytes of the index when it is decoded");
}

/// A byte that lies outside everything that was explained costs a little: of two explanations the one that
/// leaves less is better.
void weigh(Hypothesis& found, const std::vector<bool>& taken, std::uint64_t file_size) {
  const Grid& grid = found.grid;
  double unknown = 0;
  for (std::size_t i = 0; i < taken.size(); ++i) {
    if (taken[i]) continue;
    bool zero = true;
    for (std::size_t row = 0; zero && row < std::min<std::size_t>(grid.rows(), 64); ++row)
      zero = grid.row(row)[i] == 0;
    unknown += zero ? 0.1 : 0.6;
  }
  found.bits -= std::min(unknown, 16.0);
  double data = static_cast<double>(found.placement.end - found.placement.begin);
  double table = grid.space->plain && !grid.shape.data_behind && grid.space->data_file.empty()
                     ? static_cast<double>(grid.end - grid.begin)
                     : 0;
  double share = (data + table) / std::max(1.0, static_cast<double>(file_size));
  found.bits -= 80 * std::max(0.0, 1 - share);
}

/// The best of what the pairs, or sizes alone, make of the records.
std::optional<Placement> best_placement(const Grid& grid, const Zone& zone, const std::vector<Pair>& pairs) {
  std::optional<Placement> best;
  for (const Pair& pair : pairs) {
    auto found = place(grid, zone, pair);
    if (found && (!best || found->bits > best->bits)) best = std::move(found);
  }
  if (best) return best;
  return pairs.empty() ? place_by_sizes(grid, zone) : std::nullopt;
}

}  // namespace

void keep_best(std::vector<Hypothesis>& best, Hypothesis found) {
  constexpr std::size_t kKept = 10;
  // Where the numbers of the first record lie, up to whole records.
  auto place = [](const Hypothesis& one, const std::optional<Column>& column) -> std::uint64_t {
    if (!column) return UINT64_MAX;
    std::uint64_t at = one.grid.begin + column->at;
    return one.grid.varies() ? column->at + one.grid.shape.after : at % one.grid.shape.fixed();
  };
  auto same = [&](const Hypothesis& one) {
    return one.grid.shape.fixed() == found.grid.shape.fixed() && one.grid.varies() == found.grid.varies() &&
           place(one, one.placement.offset) == place(found, found.placement.offset) &&
           place(one, one.placement.size) == place(found, found.placement.size);
  };
  auto known = std::find_if(best.begin(), best.end(), same);
  if (known != best.end()) {
    if (known->bits >= found.bits) return;
    best.erase(known);
  }
  auto behind =
      std::find_if(best.begin(), best.end(), [&](const Hypothesis& one) { return found.bits > one.bits; });
  if (behind == best.end() && best.size() >= kKept) return;
  best.insert(behind, std::move(found));
  if (best.size() > kKept) best.pop_back();
}

/// What lies between entries, in bits: filling speaks for them, anything else against.
static double bits_of_gaps(const Hypothesis& found, const Subject& subject) {
  constexpr std::size_t kLooked = 24;
  std::vector<DataRun> runs = data_runs(found);
  std::sort(runs.begin(), runs.end(), [](const DataRun& a, const DataRun& b) { return a.at < b.at; });
  std::size_t looked = 0;
  double bits = 0;
  for (std::size_t i = 0; i + 1 < runs.size() && looked < kLooked; ++i) {
    std::uint64_t end = runs[i].at + runs[i].size;
    if (end >= runs[i + 1].at || runs[i + 1].at - end > 4096) continue;
    DataRun gap{end, runs[i + 1].at - end};
    Bytes bytes = data_of(found, subject, gap, gap.size);
    if (bytes.empty()) continue;
    ++looked;
    bool filling = std::all_of(bytes.begin(), bytes.end(), [&](Byte b) { return b == bytes.front(); });
    bits += filling ? std::min(4.0, static_cast<double>(bytes.size()) / 4) : -8;
  }
  return bits;
}

void explain_gaps(Hypothesis& found, const Subject& subject) {
  if (found.grid.shape.data_behind) return;
  double bits = bits_of_gaps(found, subject);
  // Offsets that count from the end of the table may count from a multiple behind it.
  for (std::uint64_t align : {4, 16, 512, 2048}) {
    std::uint64_t moved = round_up(found.grid.end, align) - found.grid.end;
    if (found.base != "items_end" || align > found.placement.align || moved == 0) continue;
    Hypothesis other = found;
    other.placement.base += moved;
    other.placement.begin += moved;
    other.placement.end += moved;
    other.base = fmt::format("align(items_end, {})", align);
    double others = bits_of_gaps(other, subject);
    if (other.placement.end > found.grid.space->data_size || others <= bits) continue;
    bits = others;
    found = std::move(other);
  }
  found.bits += bits;
}

void explain_names(Hypothesis& found, const Subject& subject) {
  const Grid& grid = found.grid;
  const Column* column = found.column(Role::name);
  bool named = grid.shape.text != TextEnd::none || column != nullptr;
  if (named) {
    for (std::size_t row = 0; row < grid.rows(); ++row) {
      std::string name = column != nullptr && grid.shape.text == TextEnd::none ? text_of(grid, *column, row)
                                                                               : grid.texts[row];
      found.backslashes = found.backslashes || name.find('\\') != std::string::npos;
    }
    return;
  }
  if (grid.shape.data_behind) return;
  const Space& space = *grid.space;
  std::vector<std::uint64_t> places = {grid.end, 0};
  Frame frame(subject, grid.space);
  bool here = space.plain && space.data_file.empty();
  if (here && found.placement.end < subject.size()) places.push_back(found.placement.end);
  for (std::uint64_t place : frame.places(space.plain ? subject.size() : space.end())) {
    if (places.size() < 16) places.push_back(place);
  }
  found.names = find_name_table(grid, subject, taken_by(found.columns, grid.shape.fixed()), places);
  if (!found.names) return;
  found.bits += found.names->bits;
  std::uint64_t at = found.names->at;
  found.names_at = std::to_string(at);
  frame.narrow(std::min(grid.begin, Frame::kHead), subject.size() - Frame::kTail,
               space.plain ? 0 : grid.begin);
  Lookup lookup(frame, found.head,
                found.placement.offset ? found.placement.offset->form.big : found.placement.size->form.big);
  if (at == grid.end) {
    found.names_at = "items_end";
  } else if (at != 0) {
    if (auto stated = lookup.stated(at, "names", "where the names are"))
      found.names_at = *stated;
    else
      found.bits -= 6;
  }
  if (!found.names->place) {
    found.evidence.push_back("as many texts as there are records lie one behind the other");
    return;
  }
  found.evidence.push_back("a number of each record tells where a text begins");
  found.names->place->why = "a text begins there, in all records";
  found.columns.push_back(*found.names->place);
  std::sort(found.columns.begin(), found.columns.end(),
            [](const Column& a, const Column& b) { return a.at < b.at; });
}

std::vector<bool> taken_by(const std::vector<Column>& columns, std::size_t fixed) {
  std::vector<bool> taken(fixed);
  for (const Column& column : columns) {
    // A short text may be a number whose bytes can be printed.
    if (column.role == Role::name && column.width <= 4) continue;
    for (std::size_t i = column.at; i < column.at + column.width && i < fixed; ++i) taken[i] = true;
  }
  return taken;
}

const Column* Hypothesis::column(Role role) const {
  auto found =
      std::find_if(columns.begin(), columns.end(), [&](const Column& one) { return one.role == role; });
  return found == columns.end() ? nullptr : &*found;
}

std::optional<Hypothesis> explain(Grid grid, const Subject& subject, const std::vector<Pair>& pairs,
                                  std::optional<Placement> known) {
  Hypothesis found;
  const Space& space = *grid.space;
  if (grid.rows() == 0) return std::nullopt;
  bool here = space.plain && space.data_file.empty();
  Zone zone{space.data_size, here ? 4u : 0u, here ? grid.begin : 0, here ? grid.end : 0};
  if (here && grid.begin <= kFarTable) zone.first = grid.end;
  if (!space.plain && space.data_file.empty()) {
    zone.table_begin = space.stored_at;
    zone.table_end = space.stored_at + (space.keyed ? grid.end : space.stored_size);
    zone.first = 4;
    if (space.stored_at <= kFarTable) zone.first = zone.table_end;
  }
  auto placement = known ? std::move(known) : best_placement(grid, zone, pairs);
  if (!placement) return std::nullopt;
  found.placement = *placement;
  if (grid.shape.text == TextEnd::none) found.columns = find_texts(grid);
  std::erase_if(found.columns, [&](const Column& text) {
    auto meets = [&](const std::optional<Column>& number) {
      return number && number->at < text.at + text.width && text.at < number->at + number->width;
    };
    return meets(placement->offset) || meets(placement->size);
  });
  found.bits = placement->bits;
  if (found.placement.offset)
    found.placement.offset->why = found.placement.in_order ? "they rise through the whole file"
                                                           : "sorted, they go through the whole file";
  if (found.placement.size && found.placement.size->why.empty())
    found.placement.size->why = found.placement.offset ? "reach up to the next place, but for filling"
                                                       : "together all that lies behind the records";
  for (Column& text : found.columns)
    text.why = text.role == Role::name ? "can be read in all records" : "can be read, few are different";
  bool big = false;
  for (const auto& column : {found.placement.offset, found.placement.size}) {
    if (!column) continue;
    found.columns.push_back(*column);
    if (column->width > 1) big = column->form.big;
  }
  bool named = grid.shape.text != TextEnd::none ||
               std::any_of(found.columns.begin(), found.columns.end(),
                           [](const Column& one) { return one.role == Role::name; });
  if (named) found.bits += 3.0 * static_cast<double>(std::min<std::size_t>(grid.rows(), 20));
  std::sort(found.columns.begin(), found.columns.end(),
            [](const Column& a, const Column& b) { return a.at < b.at; });
  found.grid = std::move(grid);

  Frame frame(subject, found.grid.space);
  std::uint64_t first_byte = found.placement.begin, last_byte = found.placement.end;
  if (here) {
    first_byte = std::min(first_byte, found.grid.begin);
    last_byte = std::max(last_byte, found.grid.end);
  } else if (!space.plain) {
    first_byte = std::min(first_byte, space.stored_at);
    last_byte = std::max(last_byte, zone.table_end);
  }
  if (!space.data_file.empty()) {
    first_byte = space.plain ? found.grid.begin : space.stored_at;
    last_byte = space.plain ? found.grid.end : space.stored_at + space.stored_size;
  }
  frame.narrow(first_byte, last_byte, space.plain ? 0 : found.grid.begin);
  Lookup lookup(frame, found.head, big);
  explain_begin(found, lookup, subject);
  if (found.count.empty()) explain_count(found, lookup);
  explain_packed(found, lookup);
  explain_base(found, lookup);
  const Placement& where = found.placement;
  if (where.offset && !where.size && found.grid.rows() > 2)
    found.sentinel = where.base + where.offset->value(found.grid, found.grid.rows() - 1) == where.end;
  weigh(found, taken_by(found.columns, found.grid.shape.fixed()), space.data_size);
  return found;
}

}  // namespace operculum::study
