#include "layout/rewrite/attempt.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/sum_kinds.h"
#include "base/text.h"
#include "io/compare.h"
#include "layout/rewrite/number_writer.h"
#include "layout/run/step_packers.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kMostAlignment = 4096;
constexpr std::size_t kRounds = 6;  // of setting checksums, which may lie in what others cover

/// Bytes of the old file, from one offset up to another, that become others.
struct Edit {
  std::uint64_t from, to;
  Assembly with;
};

class Attempt {
 public:
  Attempt(Survey& survey, const Strategy& strategy, const std::map<std::size_t, PackedEntry>& packed,
          const RowChange* row, std::span<const Cut> cuts)
      : survey_(survey), file_(survey.file), strategy_(strategy), packed_(packed), row_(row), cuts_(cuts) {}

  Assembly run() {
    find_starts();
    if (row_ != nullptr) change_row();
    for (const Cut& cut : cuts_) take_out(cut);
    for (const auto& [index, entry] : packed_) place(index, entry);
    if (!cuts_.empty()) find_moved_offset();
    move_the_others();
    move_structures();
    std::uint64_t added = moved(file_.source->size()) + appended_.size() - file_.source->size();
    if (added != 0) set_equal_numbers(static_cast<std::int64_t>(file_.source->size()), added);
    return settled(assembled());
  }

 private:
  struct Insert {
    std::uint64_t at;      // what lies from here on moves
    std::uint64_t inside;  // the first byte of the entry that grows
    std::uint64_t end;     // of its old bytes
    std::int64_t delta;
    std::int64_t exact;  // without what fills up
  };

  /// Where the bytes of a new entry are put, and the number that tells where those of the one it is like lie.
  struct Twin {
    Driver offset;
    std::uint64_t next, length;  ///< in front of what of the old file; bytes with what fills them up
  };

  [[noreturn]] void fail(const std::string& what) const {
    throw Unsupported(fmt::format("writing {} back: {}", escape(file_.plan->title), what));
  }

  /// Where entries and structures begin, and what the entries' data is aligned to.
  void find_starts() {
    for (const Extent& extent : survey_.extents) {
      if (!extent.there || extent.length == 0) continue;
      starts_.push_back(extent.at);
      std::uint64_t alignment = extent.at & (~extent.at + 1);
      alignment_ = starts_.size() == 1 ? alignment : std::min(alignment_, alignment);
    }
    constexpr std::size_t kWitnesses = 3;  // of fewer, chance may be the reason
    if (starts_.size() < kWitnesses || alignment_ < 4) alignment_ = 1;
    alignment_ = strategy_.alignment > 0 ? strategy_.alignment : std::min(alignment_, kMostAlignment);
    for (const PlacedAt& placed : survey_.head.placed) starts_.push_back(placed.position);
    starts_.push_back(file_.source->size());
    std::sort(starts_.begin(), starts_.end());
  }

  std::uint64_t start_behind(std::uint64_t at) const {
    auto next = std::lower_bound(starts_.begin(), starts_.end(), at);
    return next == starts_.end() ? file_.source->size() : *next;
  }

  std::uint64_t aligned(std::uint64_t at) const { return (at + alignment_ - 1) / alignment_ * alignment_; }

  // ---- filling that goes

  void take_out(const Cut& cut) {
    std::uint64_t length = (cut.to - cut.from) / alignment_ * alignment_;
    if (length == 0) return;
    auto delta = -static_cast<std::int64_t>(length);
    edits_.push_back({cut.to - length, cut.to, {}});
    inserts_.push_back({cut.to, cut.from, cut.from, delta, delta});
  }

  /// The number that tells where the first entry lies that moves: those of the others are like it.
  void find_moved_offset() {
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      const Extent& extent = survey_.extents[i];
      if (!extent.there || moved(extent.at) == extent.at) continue;
      if (auto offset = survey_.finder.driver(survey_.looks[i], i, Measure::offset)) {
        offsets_.emplace(i, *offset);
        return;
      }
    }
  }

  // ---- a row of a table

  void change_row() {
    for (const NumberChange& one : row_->numbers) put(one.read, one.read.value + one.by);
    appended_.add(row_->behind);
    if (row_->kind == RowChange::Kind::added) return add_row();
    std::uint64_t length = row_->to - row_->from;
    auto exact = static_cast<std::int64_t>(row_->with.size()) - static_cast<std::int64_t>(length);
    std::uint64_t old_end = row_->to, filling = 0;
    if (exact != 0 && !row_->rest_at && strategy_.alignment > 1 &&
        is_filling(row_->to, aligned(row_->to))) {  // what follows stays aligned
      old_end = aligned(row_->to);
      std::uint64_t end = row_->from + row_->with.size();
      filling = aligned(end) - end;
    }
    Assembly with;
    with.add(row_->with);
    with.add_zeros(filling);
    std::int64_t delta =
        static_cast<std::int64_t>(with.size()) - static_cast<std::int64_t>(old_end - row_->from);
    if (with.size() > 0 || old_end > row_->from) edits_.push_back({row_->from, old_end, std::move(with)});
    if (exact == 0) return;
    std::uint64_t inside = row_->inside.value_or(row_->from < row_->to ? row_->from : row_->from - 1);
    inserts_.push_back({old_end, inside, row_->to, delta, exact});
    if (row_->rest_at) keep_rest(*row_->rest_at, -delta);
    if (row_->gone) take_out(*row_->gone);
  }

  /// Its bytes are put in when all numbers are known, for it has the same as the row that it is made of.
  void add_row() {
    auto delta = static_cast<std::int64_t>(row_->with.size());
    inserts_.push_back({row_->from, *row_->inside, row_->from, delta, delta});
    if (row_->rest_at) keep_rest(*row_->rest_at, -delta);
    if (!row_->doubles_bytes) return;
    const Extent& extent = survey_.extents[row_->index];
    auto offset = survey_.finder.driver(survey_.looks[row_->index], row_->index, Measure::offset);
    std::uint64_t row_end = *row_->inside + row_->with.size();
    if (!offset || offset->read.at < *row_->inside || offset->read.at >= row_end)
      fail("no number in its row was found that tells where its bytes lie");
    std::uint64_t next = start_behind(std::max(extent.at + extent.length, extent.at + 1));
    std::uint64_t length = aligned(extent.length);
    Assembly with;
    with.add(file_.source, extent.at, extent.length);
    with.add_zeros(length - extent.length);
    edits_.push_back({next, next, std::move(with)});
    inserts_.push_back(
        {next, extent.at, next, static_cast<std::int64_t>(length), static_cast<std::int64_t>(length)});
    twin_ = Twin{*offset, next, length};
  }

  /// The new row: that of the entry it is like, with the numbers that change there; of bytes of its own with
  /// their place.
  Bytes new_row() const {
    Bytes out = row_->with;
    auto write = [&](std::uint64_t at, const Bytes& bytes) {
      if (at < *row_->inside || at + bytes.size() > *row_->inside + out.size()) return;
      std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(at - *row_->inside));
    };
    for (const auto& [at, bytes] : numbers_) write(at, bytes);
    if (!twin_) return out;
    const Extent& extent = survey_.extents[row_->index];
    const Driver& offset = twin_->offset;
    std::uint64_t place = moved(twin_->next) - twin_->length;
    std::int64_t change = static_cast<std::int64_t>(place) - static_cast<std::int64_t>(extent.at);
    if (change % offset.step != 0) fail("the new bytes would lie where no number can tell");
    auto bytes =
        bytes_for(offset.read, offset.read.value + change / offset.step * offset.unit, *file_.source);
    if (!bytes) fail(fmt::format("the number at offset {} has no room for {}", offset.read.at, place));
    write(offset.read.at, *bytes);
    return out;
  }

  bool is_filling(std::uint64_t from, std::uint64_t to) const {
    if (to > file_.source->size()) return false;
    Bytes there = read_exactly(*file_.source, from, to - from, "what fills up behind a name");
    return std::all_of(there.begin(), there.end(), [](Byte one) { return one == 0; });
  }

  /// Zeros come in front of what lies there, or as many go, so that it stays where it is.
  void keep_rest(std::uint64_t at, std::int64_t delta) {
    Assembly with;
    std::uint64_t from = at;
    if (delta > 0) {
      with.add_zeros(static_cast<std::uint64_t>(delta));
    } else {
      auto count = static_cast<std::uint64_t>(-delta);
      if (at - row_->to < count) fail("a table has no room for another row");
      from = at - count;
      Bytes there = read_exactly(*file_.source, from, count, "what fills up behind a table");
      if (std::any_of(there.begin(), there.end(), [](Byte one) { return one != 0; }))
        fail("a table has no room for another row");
    }
    edits_.push_back({from, at, std::move(with)});
    inserts_.push_back({at, at - 1, at, delta, delta});
  }

  bool is_removed(std::size_t index) const {
    return row_ != nullptr && row_->kind == RowChange::Kind::removed && row_->index == index;
  }

  /// Which entry of the result each one is.
  std::vector<std::size_t> places_in(std::span<const Entry> after) const {
    std::span<const Entry> before = survey_.container->entries();
    std::size_t expected = before.size();
    std::optional<std::size_t> new_one;
    if (row_ != nullptr && row_->kind == RowChange::Kind::removed) --expected;
    if (row_ != nullptr && row_->kind == RowChange::Kind::added) {
      ++expected;
      new_one = row_->new_index;
    }
    if (after.size() != expected) fail("other entries are found in the result");
    if (new_one && after[*new_one].path != row_->path) fail("the new entry is not found where it was put");
    std::vector<std::size_t> out(before.size());
    std::size_t next = 0;
    for (std::size_t i = 0; i < before.size(); ++i) {
      if (new_one == next) ++next;
      out[i] = next;
      if (!is_removed(i)) ++next;
    }
    return out;
  }

  const std::string& path_of(std::size_t index) const {
    bool renamed = row_ != nullptr && row_->kind == RowChange::Kind::renamed && row_->index == index;
    return renamed ? row_->path : survey_.container->entries()[index].path;
  }

  // ---- contents

  /// Puts an entry's new bytes where there is room for them.
  void place(std::size_t index, const PackedEntry& packed) {
    const Extent& extent = survey_.extents[index];
    const std::string& path = survey_.container->entries()[index].path;
    if (!extent.there) fail(fmt::format("the bytes of \"{}\" are no single run of the file", escape(path)));
    bool shared = false;
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      bool overlaps = i != index && survey_.extents[i].there && survey_.extents[i].length > 0 &&
                      survey_.extents[i].at < extent.at + extent.length &&
                      extent.at < survey_.extents[i].at + survey_.extents[i].length;
      shared |= overlaps;
    }
    std::uint64_t old_length = extent.length, new_length = packed.stored->size();
    std::uint64_t end = extent.at + old_length;
    auto offset = survey_.finder.driver(survey_.looks[index], index, Measure::offset);
    if (offset) offsets_[index] = *offset;
    std::optional<Driver> length;
    if (new_length != old_length)
      length = survey_.finder.driver(survey_.looks[index], index, Measure::length);
    if (length && !length->seen && bounded(end)) length.reset();   // then the size of that part tells it
    if (length && is_place_of_next(*length, end)) length.reset();  // it follows from where the next one lies
    if (shared && (!offset || (new_length != old_length && !length)))
      fail(fmt::format("no number was found that tells where \"{}\" lies", escape(path)));
    Assembly with;
    with.add(packed.stored);
    if (shared) {  // the others keep the bytes
      strategy_.where == Strategy::Where::append ? put_behind(with, *offset, extent.at)
                                                 : put_between(with, *offset, extent);
    } else if (new_length == old_length) {
      edits_.push_back({extent.at, end, std::move(with)});
    } else if (!offset || !length) {  // it follows from what lies around: it takes just its room
      resize(extent, std::move(with));
    } else if (std::uint64_t room = start_behind(std::max(end, extent.at + 1)) - extent.at;
               new_length <= room) {
      if (new_length < old_length) with.add_zeros(old_length - new_length);
      edits_.push_back({extent.at, extent.at + std::max(old_length, new_length), std::move(with)});
    } else if (strategy_.where == Strategy::Where::append) {
      put_behind(with, *offset, extent.at);
    } else {
      std::uint64_t next = extent.at + room, delta = aligned(new_length - room);
      with.add_zeros(room + delta - new_length);
      std::int64_t exact = static_cast<std::int64_t>(new_length) - static_cast<std::int64_t>(old_length);
      inserts_.push_back({next, extent.at, end, static_cast<std::int64_t>(delta), exact});
      edits_.push_back({extent.at, next, std::move(with)});
    }
    std::optional<Driver> size = state_size(index, packed);
    if (length && (!size || size->read.at != length->read.at)) set(*length, new_length, old_length);
  }

  /// Whether a number tells where the next entry's bytes lie.
  bool is_place_of_next(const Driver& number, std::uint64_t end) {
    std::optional<std::size_t> next;
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      const Extent& one = survey_.extents[i];
      if (one.there && one.at >= end && (!next || one.at < survey_.extents[*next].at)) next = i;
    }
    if (!next) return false;
    auto offset = survey_.finder.driver(survey_.looks[*next], *next, Measure::offset);
    return offset && offset->read.at == number.read.at;
  }

  /// Behind everything else.
  void put_behind(const Assembly& with, const Driver& offset, std::uint64_t now) {
    std::uint64_t at = aligned(file_.source->size() + appended_.size());
    appended_.add_zeros(at - file_.source->size() - appended_.size());
    appended_.add(with);
    set(offset, at, now);
  }

  /// In front of what lies behind the bytes that it had, which moves.
  void put_between(const Assembly& with, const Driver& offset, const Extent& extent) {
    std::uint64_t end = extent.at + extent.length, next = start_behind(std::max(end, extent.at + 1));
    std::uint64_t& before = between_[next];  // what other entries got there
    std::uint64_t begin = next + before, at = aligned(begin), length = aligned(at + with.size()) - begin;
    before += length;
    Assembly filled;
    filled.add_zeros(at - begin);
    filled.add(with);
    filled.add_zeros(length - filled.size());
    edits_.push_back({next, next, std::move(filled)});
    inserts_.push_back(
        {next, next - 1, next, static_cast<std::int64_t>(length), static_cast<std::int64_t>(length)});
    set(offset, at, extent.at);
  }

  /// Whether a part that a size bounds ends here.
  bool bounded(std::uint64_t end) const {
    return std::any_of(survey_.head.withins.begin(), survey_.head.withins.end(),
                       [&](const RangeRead& part) { return part.at + part.length == end; });
  }

  /// Gives an entry just the room that it needs, up to where what follows is aligned.
  void resize(const Extent& extent, Assembly with) {
    std::uint64_t end = extent.at + extent.length, old_end = aligned(end), new_length = with.size();
    bool fills_up = old_end <= start_behind(end) && old_end <= file_.source->size();
    if (!fills_up) old_end = end;
    std::uint64_t new_end = fills_up ? aligned(extent.at + new_length) : extent.at + new_length;
    with.add_zeros(new_end - extent.at - new_length);
    inserts_.push_back({old_end, extent.at, end,
                        static_cast<std::int64_t>(new_end) - static_cast<std::int64_t>(old_end),
                        static_cast<std::int64_t>(new_length) - static_cast<std::int64_t>(extent.length)});
    edits_.push_back({extent.at, old_end, std::move(with)});
  }

  /// Sets the number that tells how long the entry is unpacked, and returns it.
  std::optional<Driver> state_size(std::size_t index, const PackedEntry& packed) {
    const EntryLook& look = survey_.looks[index];
    if (!look.size || *look.size == packed.plain_size) return std::nullopt;
    auto size = survey_.finder.driver(look, index, Measure::size);
    if (size) set(*size, packed.plain_size, *look.size);
    return size;
  }

  /// Where a byte of the old file lies in the new one.
  std::uint64_t moved(std::uint64_t at) const {
    std::int64_t delta = 0;
    for (const Insert& insert : inserts_) delta += at >= insert.at ? insert.delta : 0;
    return at + static_cast<std::uint64_t>(delta);
  }

  void set(const Driver& driver, std::uint64_t wanted, std::uint64_t now) {
    std::int64_t change = static_cast<std::int64_t>(wanted) - static_cast<std::int64_t>(now);
    if (change % driver.step != 0) {
      fail(fmt::format("the number at offset {} counts in steps of {}, and {} more is no multiple of that",
                       driver.read.at, driver.step, change));
    }
    put(driver.read, driver.read.value + change / driver.step * driver.unit);
  }

  void put(const NumberRead& read, std::int64_t value) {
    bool goes = row_ != nullptr && row_->kind == RowChange::Kind::removed && read.at >= row_->from &&
                read.at < row_->to;
    if (goes) return;
    auto bytes = bytes_for(read, value, *file_.source);
    if (!bytes) fail(fmt::format("the number at offset {} has no room for {}", read.at, value));
    auto [known, is_new] = numbers_.try_emplace(read.at, *bytes);
    if (!is_new && known->second != *bytes)
      fail(fmt::format("the number at offset {} would have to be two different ones", read.at));
  }

  void move_the_others() {
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      const Extent& extent = survey_.extents[i];
      if (!extent.there || is_removed(i) || moved(extent.at) == extent.at) continue;
      if (offsets_.contains(i)) {
        set(offsets_.at(i), moved(extent.at), extent.at);
      } else if (auto offset = survey_.finder.like_others(survey_.looks[i], i, offsets_)) {
        set(*offset, moved(extent.at), extent.at);
        offsets_.emplace(i, *offset);
      }
    }
  }

  /// Tables and records that lie where a number says, and parts that a size bounds.
  void move_structures() {
    if (inserts_.empty()) return;
    const PlacedAt* first_unmatched = nullptr;
    for (const PlacedAt& placed : survey_.head.placed) {
      std::uint64_t delta = moved(placed.position) - placed.position;
      if (delta == 0) continue;
      if (const NumberRead* number = survey_.finder.last_equal(placed.stated, placed.numbers))
        put(*number, number->value + static_cast<std::int64_t>(delta));
      else if (first_unmatched == nullptr || placed.stated < first_unmatched->stated)
        first_unmatched = &placed;
    }
    if (strategy_.by_base && first_unmatched != nullptr) move_base(*first_unmatched);
    for (const RangeRead& within : survey_.head.withins) {
      std::int64_t delta = 0;
      for (const Insert& insert : inserts_) delta += grows(within, insert);
      if (delta == 0) continue;
      if (const NumberRead* number =
              survey_.finder.last_equal(static_cast<std::int64_t>(within.length), within.numbers))
        put(*number, number->value + delta);
    }
  }

  /// The number that places may be counted from: the greatest that is not behind the first of them and moves,
  /// too.
  void move_base(const PlacedAt& first) {
    const NumberRead* found = nullptr;
    for (const NumberRead& read : survey_.head.numbers) {
      if (read.value <= 0 || read.value > first.stated || (found != nullptr && read.value <= found->value))
        continue;
      auto at = static_cast<std::uint64_t>(read.value);
      if (moved(at) != at) found = &read;
    }
    if (found == nullptr) return;
    auto at = static_cast<std::uint64_t>(found->value);
    put(*found, found->value + static_cast<std::int64_t>(moved(at) - at));
  }

  /// By how much a part grows with an entry in it. One that ends with the entry's bytes has nothing of what
  /// fills up behind them.
  static std::int64_t grows(const RangeRead& part, const Insert& insert) {
    std::uint64_t end = part.at + part.length;
    if (insert.inside < part.at || insert.inside >= end) return 0;
    return end == insert.end ? insert.exact : insert.delta;
  }

  void set_equal_numbers(std::int64_t value, std::uint64_t added) {
    constexpr std::int64_t kTelling = 256;  // smaller numbers are often equal by chance
    if (value < kTelling) return;
    for (const NumberRead& number : survey_.head.numbers) {
      if (number.value == value && !numbers_.contains(number.at))
        put(number, value + static_cast<std::int64_t>(added));
    }
  }

  Assembly assembled() {
    if (row_ != nullptr && row_->kind == RowChange::Kind::added) {
      Assembly with;
      with.add(new_row());
      edits_.push_back({row_->from, row_->from, std::move(with)});
    }
    for (const auto& [at, bytes] : numbers_) {
      Assembly with;
      with.add(bytes);
      edits_.push_back({at, at + bytes.size(), std::move(with)});
    }
    std::stable_sort(edits_.begin(), edits_.end(),
                     [](const Edit& a, const Edit& b) { return a.from < b.from; });
    Assembly out;
    std::uint64_t at = 0;
    for (const Edit& edit : edits_) {
      if (edit.from < at) fail("a number that has to change lies within bytes that change");
      out.add(file_.source, at, edit.from - at);
      out.add(edit.with);
      at = edit.to;
    }
    out.add(file_.source, at, file_.source->size() - at);
    out.add(appended_);
    return out;
  }

  /// Sets checksums until all are right, and looks whether everything is where it should be.
  Assembly settled(Assembly made) {
    for (std::size_t round = 0;; ++round) {
      Recorder reads;
      SourcePtr source = made.source();
      OnTrial after = open_on_trial(file_, source, &reads);
      std::map<std::uint64_t, Bytes> sums = wrong_sums(*after, reads, *source);
      if (sums.empty()) sums = sealed_anew(*after, *source);
      if (sums.empty()) {
        verify(*after, *source);
        return made;
      }
      if (round == kRounds) fail("its checksums do not come to rest");
      made = with_bytes(source, sums);
    }
  }

  /// Through the steps that are given something else than before, back to the bytes between them and those
  /// behind them, which stay, and through the new ones.
  static Bytes resealed(SourcePtr stored, const std::vector<Step>& before, const std::vector<Step>& after,
                        std::uint64_t most) {
    std::size_t differing = before.size();
    while (differing > 0 && same_step(before[differing - 1], after[differing - 1])) --differing;
    Recipe front;
    front.source = std::move(stored);
    front.steps.assign(before.begin(), before.begin() + static_cast<std::ptrdiff_t>(differing));
    StreamPtr stream = open_recipe(std::make_shared<Recipe>(std::move(front)), std::nullopt);
    for (std::size_t i = differing; i-- > 0;) stream = pack_step(after[i], std::move(stream), {});
    return read_all(*stream, most);
  }

  /// Where a step is given something that follows from where the bytes lie, such as where a key begins, what
  /// moved is packed anew: by place in the result, where it takes the same room.
  std::map<std::uint64_t, Bytes> sealed_anew(DescribedContainer& after, const Source& source) {
    constexpr std::uint64_t kMost = 64 << 20;  // bytes that are packed anew in memory
    std::map<std::uint64_t, Bytes> out;
    std::vector<std::size_t> places = places_in(after.entries());
    std::uint64_t all = 0;
    for (std::size_t i = 0; i < places.size(); ++i) {
      if (is_removed(i) || !survey_.extents[i].there || survey_.extents[i].length == 0) continue;
      EntryLook look = after.look(places[i]);
      if (!look.recipe || !look.recipe->source || look.recipe->steps.empty()) continue;
      auto packed = packed_.find(i);
      const std::vector<Step>& old_steps = survey_.looks[i].recipe->steps;
      bool alike = packed == packed_.end() && same_steps(*survey_.looks[i].recipe, *look.recipe);
      Extent found = extent_of(*look.recipe->source, source);
      ContentPtr plain = packed == packed_.end() ? survey_.container->content(i) : packed->second.plain;
      if (alike || !found.there || old_steps.size() != look.recipe->steps.size() ||
          (all += found.length) > kMost || gives(look, *plain))
        continue;
      SourcePtr stored = packed == packed_.end() ? survey_.looks[i].recipe->source : packed->second.stored;
      Bytes bytes = resealed(std::move(stored), old_steps, look.recipe->steps, kMost);
      if (bytes.size() != found.length) continue;
      out.emplace(found.at, std::move(bytes));
      sealed_.insert(i);
    }
    return out;
  }

  static Assembly with_bytes(const SourcePtr& source, const std::map<std::uint64_t, Bytes>& places) {
    Assembly out;
    std::uint64_t at = 0;
    for (const auto& [place, bytes] : places) {
      out.add(source, at, place - at);
      out.add(bytes);
      at = place + bytes.size();
    }
    out.add(source, at, source->size() - at);
    return out;
  }

  /// What has to stand where, so that checksums are right.
  std::map<std::uint64_t, Bytes> wrong_sums(DescribedContainer& after, const Recorder& head,
                                            const Source& source) {
    std::map<std::uint64_t, Bytes> out;
    std::vector<std::size_t> places = places_in(after.entries());
    for (const auto& [index, packed] : packed_) {
      EntryLook look = after.look(places[index]);
      if (!look.recipe) fail("the result has no data for an entry that changes");
      if (look.crc32 && *look.crc32 != packed.crc32) {
        Bytes stated(4), right(4);
        for (unsigned i = 0; i < 4; ++i) {
          stated[i] = static_cast<Byte>(*look.crc32 >> (24 - 8 * i));
          right[i] = static_cast<Byte>(packed.crc32 >> (24 - 8 * i));
        }
        put_sum(stated, right, look.reads, head, source, out);
      }
      for (const ExpectedSum& sum : look.of_data)
        compare_sum(sum, packed.plain, look.reads, head, source, out);
      for (const ExpectedSum& sum : look.of_stored)
        compare_sum(sum, make_content(packed.stored), look.reads, head, source, out);
    }
    for (const DifferingCheck& check : after.differing_checks())
      put_sum(check.expected.value, check.computed, {}, head, source, out);
    return out;
  }

  void compare_sum(const ExpectedSum& sum, const ContentPtr& bytes, const Recorder& reads,
                   const Recorder& head, const Source& source, std::map<std::uint64_t, Bytes>& out) const {
    auto made = find_sum(sum.check->algorithm)->make(sum.check->parameters);
    StreamPtr stream = bytes->stream();
    Bytes block(64 * 1024);
    while (std::size_t count = stream->read(block)) made->add(ByteView(block).first(count));
    Bytes computed = made->finish();
    if (computed != sum.value) put_sum(sum.value, computed, reads, head, source, out);
  }

  /// Finds where a checksum stands, as a number or as bytes, in what was read last of it.
  void put_sum(const Bytes& stated, const Bytes& right, const Recorder& reads, const Recorder& head,
               const Source& source, std::map<std::uint64_t, Bytes>& out) const {
    for (const Recorder* recorder : {&reads, &head}) {
      for (auto run = recorder->runs.rbegin(); run != recorder->runs.rend(); ++run) {
        if (run->length != stated.size() || read_up_to(source, run->at, run->length) != stated) continue;
        out[run->at] = right;
        return;
      }
      if (stated.size() > 8) continue;
      std::uint64_t number = 0, wanted = 0;
      for (Byte b : stated) number = number << 8 | b;
      for (Byte b : right) wanted = wanted << 8 | b;
      for (auto read = recorder->numbers.rbegin(); read != recorder->numbers.rend(); ++read) {
        std::uint64_t mask = stated.size() == 8 ? UINT64_MAX : (std::uint64_t{1} << (8 * stated.size())) - 1;
        if ((static_cast<std::uint64_t>(read->value) & mask) != number || out.contains(read->at)) continue;
        auto bytes = bytes_for(*read, signed_like(*read, wanted), source);
        if (!bytes) continue;
        out[read->at] = *bytes;
        return;
      }
    }
    fail(fmt::format("the place of the checksum {} was not found", to_hex(stated)));
  }

  /// A number of few bytes that is read as a signed one.
  static std::int64_t signed_like(const NumberRead& read, std::uint64_t value) {
    unsigned unused = read.width < 8 ? 64 - 8 * read.width : 0;
    bool is_signed = read.value < 0 && unused > 0;
    return is_signed ? static_cast<std::int64_t>(value << unused) >> unused
                     : static_cast<std::int64_t>(value);
  }

  /// Every entry is there, where it should be, as long as it should be.
  void verify(DescribedContainer& after, const Source& source) {
    std::span<const Entry> old_entries = survey_.container->entries(), new_entries = after.entries();
    std::vector<std::size_t> places = places_in(new_entries);
    for (std::size_t i = 0; i < old_entries.size(); ++i) {
      if (is_removed(i)) continue;
      const std::string& path = path_of(i);
      if (new_entries[places[i]].path != path)
        fail(fmt::format("\"{}\" would have another path", escape(path)));
      const Entry &before = old_entries[i], &now = new_entries[places[i]];
      if (now.kind != before.kind || now.mode != before.mode || now.modified != before.modified)
        fail(fmt::format("\"{}\" would be of another kind, mode or time", escape(path)));
      if (!survey_.extents[i].there) {
        compare_whole(after, i, places[i]);
        continue;
      }
      EntryLook look = after.look(places[i]);
      Extent found = look.recipe && look.recipe->source ? extent_of(*look.recipe->source, source) : Extent{};
      auto packed = packed_.find(i);
      bool anew = sealed_.contains(i);  // its bytes are others for the same content
      ContentPtr plain = packed == packed_.end() ? survey_.container->content(i) : packed->second.plain;
      bool as_before = packed == packed_.end() && !anew && look.recipe &&
                       same_steps(*survey_.looks[i].recipe, *look.recipe);
      bool decoded_alike = !look.recipe || as_before || gives(look, *plain);
      if (!decoded_alike)
        fail(fmt::format("\"{}\" would be decoded in another way where it lies then", escape(path)));
      std::uint64_t length =
          packed == packed_.end() ? survey_.extents[i].length : packed->second.stored->size();
      if (found.length != length || (length > 0 && !found.there)) {
        fail(fmt::format("no number was found that tells how long \"{}\" is: it would have {} bytes, not {}",
                         escape(path), found.length, length));
      }
      if (packed != packed_.end()) {
        bool right = anew || length == 0 || same_range(source, found.at, *packed->second.stored, 0, length);
        if (!right) fail(fmt::format("no number was found that tells where \"{}\" lies", escape(path)));
      } else if (length > 0 && !anew && !kept(*look.recipe->source, survey_.extents[i])) {
        fail(fmt::format(
            "no number was found that tells where \"{}\" lies: it would be read at offset {}, not {}",
            escape(path), found.at, moved(survey_.extents[i].at)));
      }
      std::optional<std::uint64_t> size =
          packed == packed_.end() ? survey_.looks[i].size : packed->second.plain_size;
      if (look.size && look.size != size) {
        fail(fmt::format("no number was found that tells the size of \"{}\": it would be {}, not {}",
                         escape(path), *look.size, size.value_or(0)));
      }
    }
    if (row_ != nullptr && row_->kind == RowChange::Kind::added) {
      EntryLook look = after.look(row_->new_index);
      Extent found = look.recipe && look.recipe->source ? extent_of(*look.recipe->source, source) : Extent{};
      const Extent& wanted = survey_.extents[row_->index];
      if (found.there != wanted.there || found.length != wanted.length)
        fail("the new entry would not have the bytes of the one that it is made of");
    }
    for (const Finding& finding : after.findings()) {
      if (finding.level == Finding::Level::fault && survey_.container->findings().empty()) fail(finding.text);
    }
  }

  /// An entry whose bytes are no single run, such as one in blocks; beyond a size whoever wants the result
  /// compares it.
  void compare_whole(DescribedContainer& after, std::size_t index, std::size_t place) {
    constexpr std::uint64_t kMost = 64 << 20;  // bytes of all of them
    const std::optional<std::uint64_t>& size = survey_.looks[index].size;
    if (!survey_.looks[index].recipe || packed_.contains(index) ||
        (compared_ += size.value_or(kMost)) > kMost)
      return;
    bool same = false;
    try {
      same = same_bytes(*after.content(place)->stream(), *survey_.container->content(index)->stream());
    } catch (const Malformed&) {  // it is read no more
    }
    if (!same) fail(fmt::format("\"{}\" would be another one", escape(path_of(index))));
  }

  /// Whether an entry's new bytes give its new content.
  static bool gives(const EntryLook& look, const Content& plain) {
    try {
      return same_bytes(*open_recipe(look.recipe, look.size), *plain.stream());
    } catch (const Malformed&) {
      return false;
    }
  }

  /// Whether these bytes are those that lay in the old file there.
  bool kept(const Source& bytes, const Extent& extent) const {
    for (std::uint64_t done = 0; done < extent.length;) {
      auto run = trace(bytes, done, *file_.source);
      if (!run || run->at != extent.at + done) return false;
      done += run->length;
    }
    return true;
  }

  /// What a step is given may follow from where the data lies.
  static bool same_steps(const Recipe& before, const Recipe& after) {
    return before.steps.size() == after.steps.size() &&
           std::equal(before.steps.begin(), before.steps.end(), after.steps.begin(), same_step);
  }

  static bool same_step(const Step& a, const Step& b) {
    if (a.kind != b.kind || a.arguments.size() != b.arguments.size()) return false;
    bool sizes = a.kind->name == "take";  // which a new content changes, and which the steps themselves tell
    for (std::size_t k = 0; k < a.arguments.size(); ++k) {
      bool size = sizes || a.kind->parameters[k].name == "size";
      const StepArgument &one = a.arguments[k], &other = b.arguments[k];
      if (!size && (one.number != other.number || one.bytes != other.bytes || one.text != other.text))
        return false;
    }
    return true;
  }

  Survey& survey_;
  const DescribedFile& file_;
  Strategy strategy_;
  const std::map<std::size_t, PackedEntry>& packed_;
  const RowChange* row_;
  std::span<const Cut> cuts_;
  std::vector<std::uint64_t> starts_;  // of entries and structures, sorted; the file's end
  std::uint64_t alignment_ = 1;
  std::map<std::size_t, Driver> offsets_;  // of entries that change
  std::vector<Insert> inserts_;
  std::vector<Edit> edits_;
  std::map<std::uint64_t, Bytes> numbers_;  // by their place in the old file
  std::map<std::uint64_t, std::uint64_t>
      between_;  // bytes put in front of a place, for entries that shared theirs
  Assembly appended_;
  std::optional<Twin> twin_;
  std::uint64_t compared_ = 0;
  std::set<std::size_t> sealed_;  // entries whose bytes were packed anew where they lie now
};

}  // namespace

Assembly attempt(Survey& survey, const Strategy& strategy, const std::map<std::size_t, PackedEntry>& packed,
                 const RowChange* row, std::span<const Cut> cuts) {
  return Attempt(survey, strategy, packed, row, cuts).run();
}

}  // namespace operculum::layout
