#include "layout/rewrite/number_finder.h"

#include <algorithm>
#include <cstdlib>
#include <set>
#include <utility>

#include "base/error.h"
#include "io/assembly.h"
#include "layout/rewrite/blocks.h"
#include "layout/rewrite/number_writer.h"
#include "layout/rewrite/on_trial.h"
#include "layout/rewrite/rows.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kMostTried = 48;  // numbers that are changed on trial
constexpr std::size_t kMostMisses = 8;  // entries in a row whose place no number tells
constexpr std::int64_t kLargestUnit = 1 << 16;
constexpr std::size_t kRoom = 1024;         // bytes behind the end into which an entry may grow on trial
constexpr std::uint64_t kNear = 64 * 1024;  // bytes in front of data in which a header of its own lies

SourcePtr with_number(const SourcePtr& source, const NumberRead& read, const Bytes& bytes) {
  Assembly out;
  out.add(source, 0, read.at);
  out.add(bytes);
  out.add(source, read.at + bytes.size(), source->size() - read.at - bytes.size());
  return out.source();
}

/// The smallest element of a list in which a byte lies.
std::optional<Row> smallest_row(const Recorder& head, std::uint64_t at) {
  std::optional<Row> found;
  for (const ListSeen& list : head.lists) {
    auto row = row_at(list, at);
    if (row && (!found || row->end - row->begin < found->end - found->begin)) found = row;
  }
  return found;
}

}  // namespace

NumberFinder::Measures NumberFinder::measures_of(const EntryLook& look, const Source& base) {
  Measures out;
  if (look.size) out.size = static_cast<std::int64_t>(*look.size);
  if (auto blocks = blocks_of(look, base)) {
    out.length = static_cast<std::int64_t>(blocks->end - blocks->first.at);
    out.offset = static_cast<std::int64_t>(blocks->first.at);
  } else if (SourcePtr bytes = stored_bytes(look.recipe)) {
    out.length = static_cast<std::int64_t>(bytes->size());
    if (auto begin = begin_of(*look.recipe, *bytes, base)) out.offset = static_cast<std::int64_t>(*begin);
  }
  return out;
}

std::optional<NumberFinder::Measures> NumberFinder::measured(std::size_t index, const SourcePtr& source,
                                                             Trial& trial) const {
  bool listed = false;
  try {
    bool is_part = index >= paths_.size();
    Recorder reads;
    OnTrial container = open_on_trial(file_, source, is_part ? &reads : nullptr);
    std::span<const Entry> entries = container->entries();
    listed = entries.size() == paths_.size();
    if (!listed) {
      trial.readable = false;
      return std::nullopt;
    }
    if (is_part) {
      const PartMade* made = reads.part(file_.parts[index - paths_.size()].ordinal);
      EntryLook look;
      if (made != nullptr) look.recipe = made->recipe;
      return measures_of(look, *source);
    }
    if (entries[index].path != paths_[index]) return std::nullopt;
    return measures_of(container->look(index), *source);
  } catch (const LimitExceeded&) {
    throw;
  } catch (const std::exception&) {  // it is read no more: not this number, or not so
    trial.readable = listed;
    return std::nullopt;
  }
}

/// What becomes of the entry when the number is another one by so much.
std::optional<NumberFinder::Measures> NumberFinder::changed(const NumberRead& read, std::size_t index,
                                                            std::int64_t change) {
  Trial& trial = trials_[{read.at, read.plan, change, with_room_}];
  if (!trial.readable) return std::nullopt;
  if (auto known = trial.known.find(index); known != trial.known.end()) return known->second;
  auto bytes = bytes_for(read, read.value + change, *file_.source);
  SourcePtr source =
      with_room_ ? make_joined({file_.source, make_memory_source(Bytes(kRoom))}) : file_.source;
  auto found = bytes ? measured(index, with_number(source, read, *bytes), trial) : std::nullopt;
  return trial.known[index] = found;
}

/// Whether another change, twice as large or the other way, gives as much more.
template <typename Of>
bool NumberFinder::follows_evenly(const NumberRead& read, std::size_t index, std::int64_t change,
                                  std::int64_t step, Of of, const Measures& now) {
  std::int64_t expected = change < 0 ? -step : step;
  for (std::int64_t times : {2, -1}) {
    auto again = changed(read, index, times * change);
    if (again && of(*again)) return *of(*again) - *of(now) == times * expected;
  }
  return false;
}

/// Whether a measure follows a number evenly, and nothing else of the entry follows it that should not.
std::optional<Driver> NumberFinder::tried(const NumberRead& read, std::size_t index, Measure measure,
                                          const Measures& now) {
  auto of = [&](const Measures& one) {
    return measure == Measure::offset ? one.offset : measure == Measure::length ? one.length : one.size;
  };
  auto has_no_part = [&](std::int64_t change) {
    auto once = changed(read, index, change);
    return once && of(*once) && *of(*once) == *of(now);
  };
  bool still = false;  // nothing followed the smallest change
  for (std::int64_t unit = 1; unit <= kLargestUnit; unit *= 2) {
    if (still && unit == 2 && (has_no_part(kLargestUnit) || has_no_part(-kLargestUnit))) return std::nullopt;
    for (std::int64_t change : {unit, -unit}) {
      auto once = changed(read, index, change);
      if (!once || !of(*once)) continue;
      std::int64_t step = (*of(*once) - *of(now)) * (change < 0 ? -1 : 1);
      still |= step == 0;
      if (step == 0) continue;
      if (measure != Measure::offset && once->offset != now.offset) continue;
      if (!follows_evenly(read, index, change, step, of, now)) continue;
      return step % unit == 0 ? Driver{read, step / unit, 1} : Driver{read, step, unit};
    }
  }
  return std::nullopt;
}

std::optional<Driver> NumberFinder::driver(const EntryLook& look, std::size_t index, Measure measure) {
  auto known = known_.find({index, measure});
  if (known == known_.end())
    known = known_.emplace(std::pair(index, measure), find_driver(look, index, measure)).first;
  return known->second;
}

/// Where nothing can be read once it lies elsewhere: the number that says where the record at its begin does.
std::optional<Driver> NumberFinder::place_of_record(const EntryLook& look, std::int64_t at) {
  for (const PlacedAt& placed : look.reads.placed) {
    if (static_cast<std::int64_t>(placed.position) != at) continue;
    const auto& numbers = look.reads.numbers;
    for (std::size_t i = std::min(placed.numbers, numbers.size()); i-- > 0;)
      if (numbers[i].value == placed.stated) return Driver{numbers[i], 1, 1, true, i};
  }
  return std::nullopt;
}

/// Which of the numbers that were read for an entry are tried, in order: each place once, those of the row
/// that was read first before others that were looked at on the way.
std::vector<std::size_t> NumberFinder::to_try(const std::vector<NumberRead>& own) const {
  std::vector<std::size_t> out;
  std::set<std::uint64_t> seen;
  for (std::size_t i = 0; i < own.size(); ++i)
    if (seen.insert(own[i].at).second) out.push_back(i);
  if (out.size() > kMostTried) {
    auto row = smallest_row(head_, own.front().at);
    std::stable_partition(out.begin(), out.end(), [&](std::size_t i) {
      return row && own[i].at >= row->begin && own[i].at < row->end;
    });
    out.resize(kMostTried);
  }
  return out;
}

/// One of the numbers that were read for the entry.
std::optional<Driver> NumberFinder::own_driver(const EntryLook& look, std::size_t index, Measure measure,
                                               const Measures& now) {
  const std::vector<NumberRead>& own = look.reads.numbers;
  auto place = known_.find({index, Measure::offset});
  for (std::size_t i : to_try(own)) {
    bool tells_place = place != known_.end() && place->second && place->second->read.at == own[i].at;
    if (tells_place && measure != Measure::offset) continue;  // in front of the begin it may cut the length
    auto found = tried(own[i], index, measure, now);
    if (!found) continue;
    found->place = i;
    return found;
  }
  return std::nullopt;
}

std::optional<Driver> NumberFinder::find_driver(const EntryLook& look, std::size_t index, Measure measure) {
  Measures now = measures_of(look, *file_.source);
  auto value = measure == Measure::offset ? now.offset : measure == Measure::length ? now.length : now.size;
  if (!value) return std::nullopt;
  if (auto found = own_driver(look, index, measure, now)) return found;
  constexpr std::int64_t kShort = 2;  // of so few bytes none can be taken away on trial
  bool at_end = measure == Measure::length && now.offset && *now.length < kShort && !file_.end &&
                *now.offset + *now.length == static_cast<std::int64_t>(file_.size());
  if (at_end) {
    with_room_ = true;
    auto found = own_driver(look, index, measure, now);
    with_room_ = false;
    if (found) return found;
  }
  if (measure == Measure::offset) {
    if (auto told = place_of_record(look, *value)) return told;
  }
  // Records that were read for good while the list was: numbers with its value, those in front of the data
  // first.
  if (!now.offset) return std::nullopt;
  auto data_at = static_cast<std::uint64_t>(*now.offset);
  std::vector<const NumberRead*> equal = equal_numbers(*value, data_at);
  for (const NumberRead* read : equal) {
    if (auto found = tried(*read, index, measure, now)) return found;
  }
  // Where a change makes all that follows unreadable nothing can be seen: then the nearest one may be meant.
  bool close = !equal.empty() && equal.front()->at < data_at && data_at - equal.front()->at <= kNear;
  if (measure == Measure::offset || !close) return std::nullopt;
  Driver guess{*equal.front()};
  guess.seen = false;
  return guess;
}

std::vector<const NumberRead*> NumberFinder::equal_numbers(std::int64_t value, std::uint64_t at) const {
  std::vector<const NumberRead*> found;
  for (const NumberRead& read : head_.numbers) {
    if (read.value == value) found.push_back(&read);
  }
  auto distance = [&](const NumberRead* read) {
    bool behind = read->at >= at;
    return std::pair(behind, behind ? read->at - at : at - read->at);
  };
  std::stable_sort(found.begin(), found.end(),
                   [&](const NumberRead* a, const NumberRead* b) { return distance(a) < distance(b); });
  if (found.size() > kMostTried) found.resize(kMostTried);
  return found;
}

std::optional<Driver> NumberFinder::like_others(const EntryLook& look, std::size_t index,
                                                const std::map<std::size_t, Driver>& known) {
  for (const auto& [other, driver] : known) {
    if (!driver.place || *driver.place >= look.reads.numbers.size()) continue;
    const NumberRead& read = look.reads.numbers[*driver.place];
    if (read.plan == driver.read.plan && read.at != driver.read.at)
      return Driver{read, driver.step, driver.unit, true, driver.place};
  }
  bool asked = known_.contains({index, Measure::offset});
  return asked || misses_ < kMostMisses ? found_or_missed(look, index) : std::nullopt;
}

/// Entries that follow one another have no such numbers; after some, the others are not asked.
std::optional<Driver> NumberFinder::found_or_missed(const EntryLook& look, std::size_t index) {
  bool asked = known_.contains({index, Measure::offset});
  auto found = driver(look, index, Measure::offset);
  if (!found && !asked) ++misses_;
  return found;
}

const NumberRead* last_equal(std::span<const NumberRead> numbers, std::int64_t value, std::size_t count) {
  for (std::size_t i = std::min(count, numbers.size()); i-- > 0;) {
    if (numbers[i].value == value) return &numbers[i];
  }
  return nullptr;
}

}  // namespace operculum::layout
