#include "study/hypothesis.h"

#include <algorithm>
#include <array>
#include <numeric>
#include <set>

#include "study/disguise.h"
#include "study/fragment.h"
#include "study/packing.h"
#include "study/seams.h"
#include "study/stated.h"
#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr double kNameless = 20;  // bits against a last record without a name
constexpr double kFragment = 80;  // bits against records that go on where they should end
constexpr std::uint64_t kUsualMagic = 8;
constexpr double kBitsOfHead = 0.3;  // of a byte of a header

/// Numbers of one header lie alike: one at another distance from even places than most is likelier made of
/// two that lie beside each other.
double bits_against_places(const std::vector<HeadField>& head) {
  constexpr std::uint64_t kWord = 4;
  constexpr double kEach = 8;
  std::array<std::size_t, kWord> counts{};
  for (const HeadField& field : head)
    if (field.part == Part::head && field.form.width >= kWord) ++counts[field.at % kWord];
  std::size_t all = std::accumulate(counts.begin(), counts.end(), std::size_t{0});
  std::size_t most = *std::max_element(counts.begin(), counts.end());
  return most > 1 ? kEach * static_cast<double>(all - most) : 0;
}

/// A byte that lies outside everything that was explained costs a little: of two explanations the one that
/// leaves less is better.
void weigh(Hypothesis& found) {
  const Grid& grid = found.grid;
  double unknown = 0;
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::may_be_numbers);
  for (std::size_t i = 0; i < free.size(); ++i) {
    if (!free[i]) continue;
    bool zero = true;
    for (std::size_t row = 0; zero && row < std::min<std::size_t>(grid.rows(), 64); ++row)
      zero = grid.row(row)[i] == 0;
    unknown += zero ? 0.1 : 0.6;
  }
  // Bytes of a header that nothing is known of: a table may rather begin there.
  std::uint64_t known = kUsualMagic;
  for (const HeadField& field : found.head) {
    if (field.part == Part::head) known = std::max(known, field.at + field.form.width);
  }
  if (grid.space->plain && grid.begin <= kFarTable && grid.begin > known)
    unknown += kBitsOfHead * static_cast<double>(grid.begin - known);
  found.bits -=
      std::min(unknown, 16.0) + bits_against_cut(found.columns, grid) + bits_against_places(found.head);
  double data = static_cast<double>(found.placement.end - found.placement.begin);
  double table =
      grid.space->plain && !grid.shape.data_behind ? static_cast<double>(grid.end - grid.begin) : 0;
  double share = (data + table) / std::max(1.0, static_cast<double>(grid.space->file_size));
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

/// Where the index lies in the file, and from where on there can be data.
Zone zone_of(const Grid& grid) {
  const Space& space = *grid.space;
  Zone zone{space.file_size, 4, grid.begin, grid.end};
  if (space.beside) {
    zone.table_begin = zone.table_end = 0;
  } else if (!space.plain) {
    zone.table_begin = space.stored_at + (space.keyed() ? grid.begin : 0);
    zone.table_end = space.stored_at + (space.keyed() ? grid.end : space.stored_size);
  }
  if (zone.table_begin <= kFarTable) zone.first = zone.table_end;
  return zone;
}

/// Adds the columns of the placement, and texts that are none of them.
void add_columns(Hypothesis& found, const Grid& grid) {
  std::optional<Column>&offset = found.placement.offset, &size = found.placement.size;
  if (offset)
    offset->why = found.placement.in_order ? "they rise through the whole file"
                                           : "sorted, they go through the whole file";
  if (size && size->why.empty())
    size->why =
        offset ? "reach up to the next place, but for filling" : "together all that lies behind the records";
  for (const auto& number : {offset, size}) {
    if (number) found.add(*number);
  }
  if (grid.shape.text != TextEnd::none) return;
  for (Column& text : find_texts(grid)) {
    free_name(text, grid);
    if ((offset && overlap(*offset, text)) || (size && overlap(*size, text))) continue;
    text.why = text.role == Role::name ? "can be read in all records" : "can be read, few are different";
    found.add(std::move(text));
  }
}

/// What speaks against records at the end that are nothing but zeros, in bits: filling behind a table.
double bits_against_zeros(const Grid& grid) {
  constexpr double kBitsOfZeros = 12, kMost = 60;
  if (grid.shape.text != TextEnd::none || grid.shape.data_behind) return 0;
  double bits = 0;
  for (std::size_t row = grid.rows(); row > 0 && bits < kMost; --row) {
    const Byte* cells = grid.row(row - 1);
    if (std::any_of(cells, cells + grid.shape.fixed(), [](Byte b) { return b != 0; })) break;
    bits += kBitsOfZeros;
  }
  return bits > kBitsOfZeros ? bits : 0;  // one may be meant
}

/// Whether what is taken for a last record without a name is nothing but zeros.
bool ends_in_filling(const Grid& grid) {
  if (grid.texts.empty() || !grid.texts.back().empty()) return false;
  const Byte* last = grid.row(grid.rows() - 1);
  return std::all_of(last, last + grid.shape.fixed(), [](Byte b) { return b == 0; });
}

/// Whether the last record has no name where others have one.
bool is_last_nameless(const Hypothesis& found) {
  const Grid& grid = found.grid;
  if (!grid.texts.empty()) return grid.texts.back().empty();
  const Column* name = found.column(Role::name);
  return name != nullptr && grid.rows() > 0 && text_of(grid, *name, grid.rows() - 1).empty();
}

/// What speaks against names that are told by a zero behind them, in bits: letters in front of most of them.
/// Records that are aligned are less likely than others.
double bits_against_text(const Grid& grid) {
  constexpr std::size_t kLooked = 20, kFew = 4, kKinds = 3;
  constexpr double kCut = 12;
  if (grid.shape.text == TextEnd::none) return 0;
  bool chain = grid.shape.data_behind;  // bytes in front of a header are data, and may be letters
  double bits = grid.shape.align > 1 && !chain ? 3 : 0;
  if (grid.shape.text != TextEnd::zero || (chain && grid.shape.before < 2)) return bits;
  const Space& space = *grid.space;
  // Bytes in front of a name: of a number in front of it, too, that are no letters now and then.
  auto in_front = [&](std::size_t row, std::size_t back) -> Byte {
    if (chain) return grid.row(row)[grid.shape.before - back];
    std::uint64_t at = grid.starts[row] + grid.shape.before - space.at;
    return at < back ? 0 : space.bytes[static_cast<std::size_t>(at - back)];
  };
  std::size_t letters = 0, words = 0, rows = std::min(grid.rows(), kLooked);
  std::set<Byte> kinds;
  for (std::size_t row = 1; row < rows; ++row) {
    if (!is_ascii_name_byte(in_front(row, 1))) continue;
    ++letters;
    words += is_ascii_name_byte(in_front(row, 2)) ? 1 : 0;
    kinds.insert(in_front(row, 1));
  }
  // A byte of a number is a letter now and then, two of them seldom are.
  bool most = letters > kFew && (letters * 5 > rows * 4 || words * 3 > rows);
  if (most && kinds.size() >= kKinds) bits += 2.0 * static_cast<double>(letters);
  // The first name may be cut by where the table is said to begin; the last byte of a number in a header may
  // look like a letter.
  bool cut = true;
  for (std::size_t back = 1; cut && back <= (space.plain ? 2u : 1u); ++back)
    cut = is_ascii_name_byte(in_front(0, back));
  return bits + (cut ? kCut : 0);
}

/// What a record's text speaks for, in bits: a letter or two may be anything, and what comes again and again
/// is no name.
double bits_of_texts(const Grid& grid) {
  constexpr double kBitsOfLetter = 0.75, kMost = 3;
  std::size_t letters = 0;
  std::set<std::string_view> kinds;
  for (const std::string& text : grid.texts) {
    if (kinds.insert(text).second) letters += text.size();
  }
  double each =
      static_cast<double>(letters) / static_cast<double>(std::max<std::size_t>(1, grid.texts.size()));
  return std::min(kMost, kBitsOfLetter * each);
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

void keep_explained(std::vector<Hypothesis>& best, const Grid& grid, const Frame& frame,
                    const std::vector<Pair>& pairs) {
  constexpr std::size_t kTried = 5, kOfColumns = 2;
  std::vector<const Pair*> tried;
  auto same_columns = [](const Pair& a, const Pair& b) {  // in other units
    return a.offset.at == b.offset.at && a.offset.form == b.offset.form &&
           (a.size ? a.size->at : SIZE_MAX) == (b.size ? b.size->at : SIZE_MAX);
  };
  for (const Pair& pair : pairs) {
    if (tried.size() >= kTried) break;
    auto known =
        std::count_if(tried.begin(), tried.end(), [&](const Pair* one) { return same_columns(*one, pair); });
    if (static_cast<std::size_t>(known) >= kOfColumns) continue;
    tried.push_back(&pair);
    if (auto found = explain(grid, frame, {pair})) keep_best(best, std::move(*found));
  }
}

void drop_front_of_keyed(Hypothesis& found) {
  Grid& grid = found.grid;
  std::uint64_t begin = grid.begin, stored_at = grid.space->stored_at;
  bool in_front = std::any_of(found.head.begin(), found.head.end(),
                              [](const HeadField& field) { return field.part == Part::index; });
  if (!grid.space->keyed() || begin == 0 || in_front || found.begin != std::to_string(begin) ||
      found.space_at != std::to_string(stored_at))
    return;
  grid.space = keyed_from(*grid.space, begin);
  grid.begin = 0;
  grid.end -= begin;
  for (auto* places : {&grid.starts, &grid.ends}) {
    for (std::uint64_t& place : *places) place -= begin;
  }
  found.begin = "0";
  found.space_at = std::to_string(stored_at + begin);
}

void explain_anchors(Hypothesis& found, const Subject& subject) {
  constexpr double kBitsOfAnchor = 3, kMostBits = 45, kMissed = 10;
  constexpr std::size_t kTelling = 4;  // anchors among the data none of which is met
  const std::vector<std::uint64_t>& anchors = subject.anchors;
  auto begin = std::lower_bound(anchors.begin(), anchors.end(), found.placement.begin);
  auto among = static_cast<std::size_t>(std::lower_bound(begin, anchors.end(), found.placement.end) - begin);
  std::vector<DataRun> runs = data_runs(found);
  auto met = std::count_if(runs.begin(), runs.end(), [&](const DataRun& run) {
    return run.size > 0 && std::binary_search(anchors.begin(), anchors.end(), run.at);
  });
  if (met == 0 && among >= kTelling) found.bits -= kMissed;
  if (met < 2) return;
  found.bits += std::min(kMostBits, kBitsOfAnchor * static_cast<double>(met));
  found.evidence.push_back(
      fmt::format("{} of {} entries begin where something begins that is recognised", met, runs.size()));
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
  if (space.plain && found.placement.end < subject.size()) places.push_back(found.placement.end);
  for (std::uint64_t place : frame.places(space.plain ? subject.size() : space.end())) {
    if (places.size() < 16) places.push_back(place);
  }
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::may_be_numbers);
  found.names = find_name_table(grid, subject, free, places);
  if (!found.names) return;
  found.bits += found.names->bits;
  std::uint64_t at = found.names->at;
  found.names_at = std::to_string(at);
  Frame around = frame.narrowed(std::min<std::uint64_t>(grid.begin, Frame::kHead),
                                subject.size() - Frame::kTail, space.plain ? 0 : grid.begin);
  Lookup lookup(around, found.head,
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
  found.add(*found.names->place);
}

const Column* Hypothesis::column(Role role) const {
  auto found =
      std::find_if(columns.begin(), columns.end(), [&](const Column& one) { return one.role == role; });
  return found == columns.end() ? nullptr : &*found;
}

void Hypothesis::add(Column column) {
  auto behind =
      std::find_if(columns.begin(), columns.end(), [&](const Column& one) { return one.at > column.at; });
  columns.insert(behind, std::move(column));
}

std::optional<Hypothesis> explain(Grid grid, const Frame& frame, std::vector<Pair> pairs,
                                  std::optional<Placement> known) {
  if (grid.rows() == 0) return std::nullopt;
  grid = settle_names(std::move(grid), pairs, known);
  Zone zone = zone_of(grid);
  zone.anchors = frame.anchors();
  auto placement = known ? std::move(known) : best_placement(grid, zone, pairs);
  if (!placement) return std::nullopt;
  Hypothesis found;
  found.placement = *placement;
  found.bits = placement->bits;
  add_columns(found, grid);
  // Up to four letters may be a number whose bytes happen to be printed.
  const Column* name = found.column(Role::name);
  double letters = grid.shape.text != TextEnd::none ? bits_of_texts(grid)
                   : name == nullptr                ? 0
                   : name->width <= 4               ? 0.5
                                                    : 3;
  found.bits += letters * static_cast<double>(std::min<std::size_t>(grid.rows(), 20));
  found.grid = std::move(grid);

  const Space& space = *found.grid.space;
  Frame around =
      frame.narrowed(std::min(found.placement.begin, zone.table_begin),
                     std::max(found.placement.end, zone.table_end), space.plain ? 0 : found.grid.begin);
  bool big = false;
  for (const auto& column : {found.placement.offset, found.placement.size}) {
    if (column && column->width > 1) big = column->form.big;
  }
  Lookup lookup(around, found.head, big);
  explain_stated(found, lookup, frame.file_size());
  const Placement& where = found.placement;
  if (where.offset && !where.size && found.grid.rows() > 2)
    found.sentinel = where.base + where.offset->value(found.grid, found.grid.rows() - 1) == where.end;
  const Grid& rows = found.grid;
  if (ends_in_filling(rows)) return std::nullopt;
  if (is_last_nameless(found) && where.offset && !where.size) {
    found.sentinel = found.nameless_end = true;
    found.placement.end = where.base + where.offset->value(rows, rows.rows() - 1);
    found.evidence.push_back("the last record has no name: it tells where the data ends");
    found.bits += 4;
  }
  found.bits -= kFragment * (open_ends(found) + (holds_several(found) ? 1 : 0));
  found.bits -= bits_against_text(rows) + bits_against_zeros(rows);
  // Only a place can be all that a last record without a name is for.
  if (is_last_nameless(found) && !found.nameless_end) found.bits -= kNameless;
  weigh(found);
  return found;
}

}  // namespace operculum::study
