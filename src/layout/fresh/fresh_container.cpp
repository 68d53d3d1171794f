#include "layout/fresh/fresh_container.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/text.h"
#include "container/format.h"
#include "layout/fresh/corrections.h"
#include "layout/rewrite/described_rewrite.h"
#include "layout/rewrite/on_trial.h"
#include "layout/run/step_packers.h"

namespace operculum::layout {
namespace {

constexpr std::size_t kMostReadings = 30'000;        // before the search is given up
constexpr std::uint64_t kMostStored = 4096;          // bytes of the file's content as packed
constexpr std::string_view kContent = "Salt water";  // of the one file

class Search {
 public:
  explicit Search(const std::shared_ptr<const Plan>& plan) : plan_(plan) {
    constexpr std::uint64_t kMostEntries = 24;  // of what is told by chance
    context_.limits.max_entries = kMostEntries;
    context_.known_names.emplace_back(kFreshName);
  }

  Bytes run() {
    auto first = completed(read({}), Effort::thorough);
    if (!first) give_up();
    std::optional<Reading> found = first->files > 0 ? first : with_entry(*first);
    if (!found) give_up();
    Reading out = apart(named(apart(*std::move(found))));
    if (out.path.find(kFreshName) == std::string::npos) {
      obstacle_ = "no text or hash was found that its name comes from";
      give_up();
    }
    out = filled(placed(std::move(out)));
    return shortened(summed(std::move(out))).bytes;
  }

 private:
  Reading read(Bytes bytes) {
    if (++readings_ > kMostReadings) give_up();
    Reading out = read_fresh(plan_, std::move(bytes), context_);
    if (!out.complete && !out.endless && out.steps() >= farthest_) {
      farthest_ = out.steps();
      obstacle_ = out.obstacle;
    }
    return out;
  }

  [[noreturn]] void give_up() const {
    throw Unsupported(fmt::format(
        "a new container by the description of {} alone: no bytes were found that it takes for one with an "
        "entry{}; --like CONTAINER takes the form of one that is there",
        escape(plan_->title), obstacle_.empty() ? "" : fmt::format(" ({})", obstacle_)));
  }

  static bool is_farther(const Reading& now, const Reading& before) {
    return std::tuple(now.complete, now.opened, now.steps()) >
           std::tuple(before.complete, before.opened, before.steps());
  }

  /// Whether room is looked for behind each correction, too.
  enum class Effort { usual, thorough };

  /// The same, corrected until nothing stands in the way; nothing where that does not lead there.
  std::optional<Reading> completed(Reading reading, Effort effort = Effort::usual) {
    constexpr std::size_t kMostRounds = 48;
    std::set<std::string> met;
    for (std::size_t round = 0; !reading.complete; ++round) {
      if (round == kMostRounds || reading.endless) return std::nullopt;
      met.insert(reading.kind_of_obstacle());
      auto next = one_farther(reading, met, effort);
      if (!next) return std::nullopt;
      reading = *std::move(next);
    }
    return reading;
  }

  /// One correction farther, or one and some room behind it.
  std::optional<Reading> one_farther(const Reading& reading, const std::set<std::string>& met,
                                     Effort effort) {
    constexpr std::uint64_t kRoomStep = 4, kMostRoom = 128;  // bytes
    std::vector<Reading> short_of_room;
    for (Bytes& bytes : corrections(reading)) {
      Reading next = read(std::move(bytes));
      if (next.endless) continue;
      bool another = next.steps() == reading.steps() && !met.contains(next.kind_of_obstacle());
      if (another || is_farther(next, reading)) return next;
      bool short_by_some = effort == Effort::thorough && next.cut_short && !next.opened;
      if (short_by_some) short_of_room.push_back(std::move(next));
    }
    for (const Reading& one : short_of_room) {
      for (std::uint64_t more = kRoomStep; more <= kMostRoom; more += kRoomStep) {
        Reading next = read(grown(one, more));
        if (is_farther(next, reading)) return next;
      }
    }
    return std::nullopt;
  }

  /// Other bytes that may show an entry where there was none.
  static std::vector<Bytes> next_of(const Reading& reading, bool all_bits) {
    std::vector<Bytes> out;
    std::vector<NumberRead> numbers = reading.numbers();
    auto put = [&](const NumberRead& read, std::int64_t value) {
      if (read.value == value) return;
      if (auto made = with_value(reading.bytes, read, value)) out.push_back(*std::move(made));
    };
    if (!all_bits) {
      for (Bytes& bytes : corrections(reading)) out.push_back(std::move(bytes));
      for (const NumberRead& read : numbers)
        for (std::int64_t value : {read.value + 1, std::int64_t{1}, std::int64_t{2}}) put(read, value);
      for (std::uint64_t more : {1, 2, 4, 5, 6, 8, 12, 16}) out.push_back(grown(reading, more));
      for (const NumberRead& read : numbers)
        for (std::int64_t place : places_behind(reading)) put(read, place);
    } else {
      constexpr unsigned kBits = 32;
      for (const NumberRead& read : numbers)
        for (unsigned bit = 0; bit < kBits; ++bit) put(read, std::int64_t{1} << bit);
    }
    return out;
  }

  /// Looks for an entry step by step, from the bytes on that lead to most and overlap least.
  std::optional<Reading> with_entry(const Reading& first) {
    constexpr std::size_t kDepth = 8, kKept = 6;
    std::vector<Reading> from = {first};
    for (std::size_t depth = 0; depth < kDepth && !from.empty(); ++depth) {
      std::vector<Reading> found;
      for (bool all_bits : {false, true}) {
        std::optional<Reading> best;
        for (const Reading& one : from) {
          for (Bytes& bytes : next_of(one, all_bits)) {
            if (!seen_.insert(bytes).second) continue;
            auto next = completed(read(std::move(bytes)));
            if (!next) continue;
            if (next->files == 1 && next->overlap == 0) return next;
            if (next->files > 0 && (!best || is_neater(*next, *best))) best = *next;
            if (next->files == 0 && next->steps() > one.steps()) found.push_back(*std::move(next));
          }
          if (best) return best;
        }
      }
      std::stable_sort(found.begin(), found.end(),
                       [](const Reading& a, const Reading& b) { return is_neater(a, b); });
      if (found.size() > kKept) found.resize(kKept);
      from = std::move(found);
    }
    return std::nullopt;
  }

  /// The first file is the same, and no other one came or went.
  static bool same_file(const Reading& a, const Reading& b) { return a.files == b.files && a.path == b.path; }

  static bool is_neater(const Reading& a, const Reading& b) {
    return std::tuple(a.overlap, a.files, a.bytes.size()) < std::tuple(b.overlap, b.files, b.bytes.size());
  }

  /// With a name, where a text or a hash gives it one.
  Reading named(Reading reading) {
    if (reading.path.find(kFreshName) != std::string::npos) return reading;
    const std::string name(kFreshName);
    std::vector<Bytes> ways = with_names(reading, name);
    for (Bytes& bytes : with_hashes(reading, name)) ways.push_back(std::move(bytes));
    for (Bytes& bytes : ways) {
      auto next = completed(read(std::move(bytes)));
      if (next && next->files == reading.files && next->path.find(name) != std::string::npos)
        return *std::move(next);
    }
    return reading;
  }

  /// What was read twice lies apart, as far as a number tells where it is.
  Reading apart(Reading reading) {
    constexpr std::size_t kMostRounds = 8;
    for (std::size_t round = 0; reading.overlap > 0 && round < kMostRounds; ++round) {
      std::optional<Reading> best;
      for (const NumberRead& number : reading.numbers()) {
        for (std::int64_t place : places_behind(reading)) {
          auto bytes = with_value(reading.bytes, number, place);
          auto next = bytes ? completed(read(*std::move(bytes))) : std::nullopt;
          bool helps = next && next->files > 0 && next->overlap < reading.overlap;
          if (helps && (!best || is_neater(*next, *best))) best = std::move(next);
        }
      }
      if (!best) break;
      reading = *std::move(best);
    }
    return reading;
  }

  /// The place of the one file, where a number tells it, is the end.
  Reading placed(Reading reading) {
    if (!reading.data || reading.data->at >= reading.bytes.size()) return reading;
    for (const NumberRead& number : reading.numbers()) {
      for (std::int64_t place : places_behind(reading)) {
        auto bytes = with_value(reading.bytes, number, place);
        if (!bytes) continue;
        auto next = completed(read(*std::move(bytes)));
        bool fits = next && same_file(*next, reading) && next->data &&
                    next->data->at >= reading.bytes.size() && next->data->length == 0;
        if (fits) return *std::move(next);
      }
    }
    return reading;
  }

  /// With a few bytes in the file, and the numbers that tell how many they are: what is 0 tells little.
  Reading filled(Reading reading) {
    if (!reading.data || reading.data->length > 0 || reading.overlap > 0) return reading;
    Bytes stored;
    try {
      SourcePtr plain = make_memory_source(Bytes(kContent.begin(), kContent.end()));
      stored = read_all(*pack_steps(reading.look.recipe->steps, make_source_stream(plain), {}), kMostStored);
    } catch (const Error&) {
      return reading;
    }
    auto put = [&](const Reading& before, std::size_t value, auto fits) -> std::optional<Reading> {
      constexpr unsigned kMostShift = 8;  // of a number in the higher bits of a word
      for (unsigned shift = 0; shift <= kMostShift; ++shift) {
        for (const NumberRead& number : before.numbers()) {
          if (number.value != 0) continue;
          auto bytes = with_value(before.bytes, number, static_cast<std::int64_t>(value) << shift);
          auto next = bytes ? completed(read(*std::move(bytes))) : std::nullopt;
          if (next && same_file(*next, before) && fits(*next)) return next;
        }
      }
      return std::nullopt;
    };
    std::optional<Reading> out;
    for (bool room_first : {true, false}) {
      Reading with_room = room_first ? read(with_data(reading, stored)) : reading;
      bool follows = with_room.complete && with_room.path == reading.path && with_room.data &&
                     with_room.data->at == reading.data->at && with_room.data->length == stored.size();
      if (follows) out = with_room;  // its length follows from what lies around it
      if (out) break;
      out = put(with_room, stored.size(), [&](const Reading& next) {
        return next.data && next.data->at == reading.data->at && next.data->length == stored.size() &&
               next.overlap == 0;
      });
      if (out) break;
    }
    if (!out) return reading;
    if (out->look.size && *out->look.size != kContent.size()) {
      auto sized = put(*out, kContent.size(), [&](const Reading& next) {
        return next.look.size == kContent.size() && next.data && next.data->length == stored.size();
      });
      if (!sized) return reading;
      out = sized;
    }
    Bytes bytes = out->bytes;
    std::copy(stored.begin(), stored.end(), bytes.begin() + static_cast<std::ptrdiff_t>(out->data->at));
    return read(std::move(bytes));
  }

  /// With the sums that the description states.
  Reading summed(Reading reading) {
    constexpr std::size_t kMostRounds = 8;
    for (std::size_t round = 0; !reading.checks.empty() && round < kMostRounds; ++round) {
      bool helped = false;
      for (const DifferingCheck& check : reading.checks) {
        for (Bytes& bytes : with_sum(reading, check)) {
          Reading next = read(std::move(bytes));
          bool fits = next.complete && same_file(next, reading) && next.checks.size() < reading.checks.size();
          if (!fits) continue;
          reading = std::move(next);
          helped = true;
          break;
        }
        if (helped) break;
      }
      if (!helped) break;
    }
    return reading;
  }

  static bool same_data(const Reading& a, const Reading& b) {
    return a.data.has_value() == b.data.has_value() &&
           (!a.data || (a.data->at == b.data->at && a.data->length == b.data->length));
  }

  /// Without what nothing is read of at the end.
  Reading shortened(Reading reading) {
    for (std::size_t by = reading.bytes.size(); by > 0; by /= 2) {
      while (by <= reading.bytes.size()) {
        Reading next =
            read(Bytes(reading.bytes.begin(), reading.bytes.end() - static_cast<std::ptrdiff_t>(by)));
        bool same = next.complete && same_file(next, reading) && next.steps() == reading.steps() &&
                    next.overlap <= reading.overlap && next.checks.size() <= reading.checks.size() &&
                    same_data(next, reading);
        if (!same) break;
        reading = std::move(next);
      }
    }
    return reading;
  }

  std::shared_ptr<const Plan> plan_;
  OpenContext context_;
  std::size_t readings_ = 0, farthest_ = 0;
  std::string obstacle_;  // of the reading that came farthest
  std::set<Bytes> seen_;
};

}  // namespace

Bytes smallest_container(const std::shared_ptr<const Plan>& plan) {
  return Search(plan).run();
}

Assembly pack_described(const std::shared_ptr<const Plan>& plan, const std::vector<NewEntry>& entries,
                        const Writing& writing) {
  OpenContext context;
  context.known_names.emplace_back(kFreshName);
  DescribedFile file = file_of(plan, smallest_container(plan), context);
  Changes changes;
  changes.added = entries;
  OnTrial container = open_on_trial(file, file.source);
  for (std::size_t i = 0; i < container->entries().size(); ++i) changes.removed.insert(i);
  return rewrite_described(file, changes, writing);
}

}  // namespace operculum::layout
