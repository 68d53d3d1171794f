#include "layout/rewrite/attempt.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "layout/rewrite/moves.h"
#include "layout/rewrite/new_numbers.h"
#include "layout/rewrite/number_writer.h"
#include "layout/rewrite/settle.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kMostAlignment = 4096;

/// Bytes of the old file, from one offset up to another, that become others.
struct Edit {
  std::uint64_t from, to;
  Assembly with;
};

class Attempt {
 public:
  Attempt(Survey& survey, const Strategy& strategy, const std::map<std::size_t, PackedEntry>& packed,
          const RowChange* row, std::span<const Cut> cuts, const AllWidened& widened)
      : survey_(survey),
        file_(survey.file),
        strategy_(strategy),
        packed_(packed),
        row_(row),
        cuts_(cuts),
        widened_(widened),
        moves_(survey.file),
        numbers_(survey, row, widened) {}

  /// Throws NoRoom, too.
  Made run() {
    find_starts();
    for (const auto& [at, one] : widened_) {
      std::uint64_t end = at + one.read.width;
      auto more = static_cast<std::int64_t>(one.width - one.read.width);
      moves_.add({end, at, end, more, more});
    }
    if (row_ != nullptr) change_row();
    for (const Cut& cut : cuts_) take_out(cut);
    for (const auto& [index, entry] : packed_) place(index, entry);
    if (!cuts_.empty()) find_moved_offset();
    move_the_others();
    move_structures();
    std::uint64_t size = file_.size(), added = moves_.moved(size) + appended_.size() - size;
    if (added != 0) set_equal_numbers(static_cast<std::int64_t>(size), added);
    for (const OpenedPart& part : file_.parts) {
      if (!part.is_file() || part.length == 0) continue;
      std::uint64_t end = part.at + part.length;
      std::uint64_t more =
          moves_.moved(end) - end - static_cast<std::uint64_t>(moves_.shift_of_part(part.at));
      if (more != 0) set_equal_numbers(static_cast<std::int64_t>(part.length), more);
    }
    return settle(survey_, packed_, row_, assembled());
  }

 private:
  /// Where the bytes of a new entry are put, and the number that tells where those of the one it is like lie.
  struct Twin {
    Driver offset;
    std::uint64_t next, length;  ///< in front of what of the old file; from the data on to what is filled up
  };

  [[noreturn]] void fail(const std::string& what) const { survey_.fail(what); }

  /// Where entries and structures begin, and what the entries' data is aligned to.
  void find_starts() {
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      const Extent& extent = survey_.extents[i];
      if (!extent.there || extent.length == 0) continue;
      starts_.push_back(extent.at);
      if (survey_.is_part(i)) continue;
      std::uint64_t alignment = extent.at & (~extent.at + 1);
      alignment_ = starts_.size() == 1 ? alignment : std::min(alignment_, alignment);
    }
    constexpr std::size_t kWitnesses = 3;  // of fewer, chance may be the reason
    if (starts_.size() < kWitnesses || alignment_ < 4) alignment_ = 1;
    alignment_ = strategy_.alignment > 0 ? strategy_.alignment : std::min(alignment_, kMostAlignment);
    for (const PlacedAt& placed : survey_.head.placed) starts_.push_back(placed.position);
    for (const EntryLook& look : survey_.looks)
      for (const PlacedAt& placed : look.reads.placed) starts_.push_back(placed.position);
    starts_.push_back(file_.size());
    std::sort(starts_.begin(), starts_.end());
  }

  /// Of the file, or of the part that an offset lies in.
  std::uint64_t end_around(std::uint64_t at) const {
    const OpenedPart* part = file_.part_at(at);
    return part == nullptr ? file_.size() : part->at + part->length;
  }

  std::uint64_t start_behind(std::uint64_t at) const {
    auto next = std::lower_bound(starts_.begin(), starts_.end(), at);
    std::uint64_t end = end_around(at);
    return next == starts_.end() ? end : std::min(*next, end);
  }

  std::uint64_t aligned(std::uint64_t at) const { return (at + alignment_ - 1) / alignment_ * alignment_; }

  // ---- filling that goes

  void take_out(const Cut& cut) {
    std::uint64_t length = (cut.to - cut.from) / alignment_ * alignment_;
    if (length == 0) return;
    auto delta = -static_cast<std::int64_t>(length);
    edits_.push_back({cut.to - length, cut.to, {}});
    moves_.add({cut.to, cut.from, cut.from, delta, delta});
  }

  /// The number that tells where the first entry lies that moves: those of the others are like it.
  void find_moved_offset() {
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      const Extent& extent = survey_.extents[i];
      if (!extent.there || extent.length == 0 || moves_.shift_of(extent.at) == 0) continue;
      if (auto offset = survey_.finder.driver(survey_.looks[i], i, Measure::offset)) {
        offsets_.emplace(i, *offset);
        return;
      }
    }
  }

  // ---- a row of a table

  void change_row() {
    for (const NumberChange& one : row_->numbers) numbers_.put(one.read, one.read.value + one.by);
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
    moves_.add({old_end, inside, row_->to, delta, exact});
    if (row_->rest_at) keep_rest(*row_->rest_at, filling_for(delta));
    for (const Cut& cut : row_->gone) take_out(cut);
  }

  /// Its bytes are put in when all numbers are known, for it has the same as the row that it is made of.
  void add_row() {
    auto delta = static_cast<std::int64_t>(row_->with.size());
    moves_.add({row_->from, *row_->inside, row_->from, delta, delta});
    if (row_->rest_at) keep_rest(*row_->rest_at, filling_for(delta));
    if (!row_->doubles_bytes) return;
    const Extent& extent = survey_.extents[row_->index];
    auto offset = survey_.finder.driver(survey_.looks[row_->index], row_->index, Measure::offset);
    std::uint64_t row_end = *row_->inside + row_->with.size();
    if (!offset || offset->read.at < *row_->inside || offset->read.at >= row_end)
      fail("no number in its row was found that tells where its bytes lie");
    std::uint64_t next = start_behind(std::max(extent.at + extent.length, extent.at + 1));
    std::uint64_t head = header_size(row_->index), bytes = head + extent.length, length = aligned(bytes);
    Assembly with;
    with.add(file_.source, extent.at - head, bytes);
    with.add_zeros(length - bytes);
    edits_.push_back({next, next, std::move(with)});
    moves_.add({next, extent.at, next, static_cast<std::int64_t>(length), static_cast<std::int64_t>(length)});
    twin_ = Twin{*offset, next, length - head};
  }

  /// Bytes of a record right in front of an entry's bytes that was gone to for them.
  std::uint64_t header_size(std::size_t index) const {
    constexpr std::uint64_t kMostHeader = 4096;
    const Extent& extent = survey_.extents[index];
    std::uint64_t begin = extent.at;
    for (const PlacedAt& placed : survey_.looks[index].reads.placed) {
      bool near = placed.position < extent.at && extent.at - placed.position <= kMostHeader;
      bool others = std::any_of(survey_.extents.begin(), survey_.extents.end(), [&](const Extent& one) {
        return one.there && one.length > 0 && one.at >= placed.position && one.at < extent.at;
      });
      if (near && !others) begin = std::min(begin, placed.position);
    }
    return extent.at - begin;
  }

  /// The new row: that of the entry it is like, with the numbers that change there; of bytes of its own with
  /// their place.
  Bytes new_row() const {
    Bytes out = row_->with;
    auto write = [&](std::uint64_t at, const Bytes& bytes) {
      if (at < *row_->inside || at + bytes.size() > *row_->inside + out.size()) return;
      std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(at - *row_->inside));
    };
    for (const auto& [at, number] : numbers_.all()) write(at, number.bytes);
    if (!twin_) return out;
    const Extent& extent = survey_.extents[row_->index];
    const Driver& offset = twin_->offset;
    std::uint64_t place = moves_.moved(twin_->next) - twin_->length;
    std::int64_t change = static_cast<std::int64_t>(place) - static_cast<std::int64_t>(extent.at) -
                          moves_.shift_of_part(extent.at) - shift_of_base(offset, extent);
    if (change % offset.step != 0) fail("the new bytes would lie where no number can tell");
    auto bytes =
        bytes_for(offset.read, offset.read.value + change / offset.step * offset.unit, *file_.source);
    if (!bytes) fail(fmt::format("the number at offset {} has no room for {}", offset.read.at, place));
    write(offset.read.at, *bytes);
    return out;
  }

  bool is_filling(std::uint64_t from, std::uint64_t to) const {
    if (to > end_around(from)) return false;
    Bytes there = read_exactly(*file_.source, from, to - from, "what fills up behind a name");
    return std::all_of(there.begin(), there.end(), [](Byte one) { return one == 0; });
  }

  /// How many zeros have to come, so that what lies behind a change keeps its place, or moves and stays
  /// aligned.
  std::int64_t filling_for(std::int64_t delta) const {
    auto alignment = static_cast<std::int64_t>(strategy_.alignment);
    return alignment > 1 ? (alignment - delta % alignment) % alignment : -delta;
  }

  /// Zeros come in front of what lies there, or as many go.
  void keep_rest(std::uint64_t at, std::int64_t delta) {
    if (delta == 0) return;
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
    moves_.add({at, at - 1, at, delta, delta});
  }

  // ---- contents

  /// Puts an entry's new bytes where there is room for them.
  void place(std::size_t index, const PackedEntry& packed) {
    const Extent& extent = survey_.extents[index];
    std::string path = survey_.is_part(index) ? "a packed table" : survey_.container->entries()[index].path;
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
    bool own = length && length->read.at >= extent.at && length->read.at < end;
    if (own) length.reset();  // as in a table of blocks, which is new, too
    if (shared && (!offset || (new_length != old_length && !length)))
      fail(fmt::format("no number was found that tells where \"{}\" lies", escape(path)));
    bool has_no_place = old_length == 0 && new_length > 0 && offset && length;
    Assembly with;
    with.add(packed.stored);
    if (shared || has_no_place) {  // the others keep the bytes
      strategy_.where == Strategy::Where::append ? put_behind(with, *offset, extent.at)
                                                 : put_between(with, *offset, extent);
    } else if (new_length == old_length) {
      edits_.push_back({extent.at, end, std::move(with)});
    } else if (!offset || !length) {  // it follows from what lies around: it takes just its room
      if (offset) numbers_.put(offset->read, offset->read.value);  // though the end may have been there
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
      moves_.add({next, extent.at, end, static_cast<std::int64_t>(delta), exact});
      edits_.push_back({extent.at, next, std::move(with)});
    }
    std::optional<Driver> size = state_size(index, packed);
    if (length && (!size || size->read.at != length->read.at)) numbers_.set(*length, new_length, old_length);
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
    if (const OpenedPart* part = file_.part_at(now)) return put_behind_part(*part, with, offset, now);
    std::uint64_t size = file_.size(), at = aligned(size + appended_.size());
    appended_.add_zeros(at - size - appended_.size());
    appended_.add(with);
    numbers_.set(offset, at, now);
  }

  /// Behind everything else of a file beside the container.
  void put_behind_part(const OpenedPart& part, const Assembly& with, const Driver& offset,
                       std::uint64_t now) {
    if (!part.is_file()) fail("nothing can be put behind what is packed together");
    put_in(part.at + part.length, with, offset, now, Tail::open);
  }

  /// In front of what lies behind the bytes that it had, which moves.
  void put_between(const Assembly& with, const Driver& offset, const Extent& extent) {
    std::uint64_t end = extent.at + extent.length;
    bool at_start = extent.length == 0 && start_behind(extent.at) == extent.at;
    std::uint64_t next = at_start ? extent.at : start_behind(std::max(end, extent.at + 1));
    put_in(next, with, offset, extent.at, Tail::filled);
  }

  /// Whether what is put in is filled up to where what follows is aligned.
  enum class Tail { open, filled };

  /// In front of a place of the old file, behind what other entries got there.
  void put_in(std::uint64_t next, const Assembly& with, const Driver& offset, std::uint64_t now, Tail tail) {
    std::uint64_t& before = between_[next];
    std::uint64_t begin = next + before, at = aligned(begin), end = at + with.size();
    std::uint64_t length = (tail == Tail::filled ? aligned(end) : end) - begin;
    before += length;
    Assembly filled;
    filled.add_zeros(at - begin);
    filled.add(with);
    filled.add_zeros(length - filled.size());
    edits_.push_back({next, next, std::move(filled)});
    moves_.add({next, next - 1, next, static_cast<std::int64_t>(length), static_cast<std::int64_t>(length)});
    numbers_.set(offset, at, now);
  }

  /// Whether a part that a size bounds ends here.
  bool bounded(std::uint64_t end) const {
    return std::any_of(survey_.head.withins.begin(), survey_.head.withins.end(),
                       [&](const RangeRead& part) { return part.at + part.length == end; });
  }

  /// Gives an entry just the room that it needs, up to where what follows is aligned.
  void resize(const Extent& extent, Assembly with) {
    std::uint64_t end = extent.at + extent.length, old_end = aligned(end), new_length = with.size();
    bool fills_up = old_end <= start_behind(end) && old_end <= end_around(extent.at);
    if (!fills_up) old_end = end;
    std::uint64_t new_end = fills_up ? aligned(extent.at + new_length) : extent.at + new_length;
    with.add_zeros(new_end - extent.at - new_length);
    std::uint64_t inside = extent.length > 0 || extent.at == 0 ? extent.at : extent.at - 1;
    moves_.add({old_end, inside, end, static_cast<std::int64_t>(new_end) - static_cast<std::int64_t>(old_end),
                static_cast<std::int64_t>(new_length) - static_cast<std::int64_t>(extent.length)});
    edits_.push_back({extent.at, old_end, std::move(with)});
  }

  /// Sets the number that tells how long the entry is unpacked, and returns it.
  std::optional<Driver> state_size(std::size_t index, const PackedEntry& packed) {
    const EntryLook& look = survey_.looks[index];
    if (!look.size || *look.size == packed.plain_size) return std::nullopt;
    auto size = survey_.finder.driver(look, index, Measure::size);
    if (size) numbers_.set(*size, packed.plain_size, *look.size);
    return size;
  }

  void move_the_others() {
    for (std::size_t i = 0; i < survey_.extents.size(); ++i) {
      const Extent& extent = survey_.extents[i];
      bool filled = extent.length == 0 && packed_.contains(i);  // its place is new
      if (!extent.there || filled || removes(row_, i)) continue;
      std::int64_t shift = moves_.shift_of(extent.at);
      if (shift == 0 && !strategy_.from_base) continue;  // else what it counts from may move without it
      if (!offsets_.contains(i)) {
        auto offset = survey_.finder.like_others(survey_.looks[i], i, offsets_);
        if (!offset) continue;
        offsets_.emplace(i, *offset);
      }
      const Driver& offset = offsets_.at(i);
      shift -= shift_of_base(offset, extent);
      if (shift == 0) continue;
      std::uint64_t place = extent.at + static_cast<std::uint64_t>(shift);
      if (extent.length > 0) {
        numbers_.set(offset, place, extent.at);
      } else {
        numbers_.set_if_it_fits(offset, place, extent.at);  // where nothing lies, it matters little
      }
    }
  }

  /// By how much the place moves from which an entry's is counted: one in front of it, or behind it, such as
  /// the end.
  std::int64_t shift_of_base(const Driver& offset, const Extent& extent) const {
    std::int64_t base = static_cast<std::int64_t>(extent.at) - offset.read.value / offset.unit * offset.step;
    bool counted = strategy_.from_base && base > 0 && static_cast<std::uint64_t>(base) <= file_.size();
    return counted ? moves_.shift_of(static_cast<std::uint64_t>(base)) : 0;
  }

  /// Tables and records that lie where a number says, and parts that a size bounds.
  void move_structures() {
    if (moves_.empty()) return;
    const PlacedAt* first_unmatched = nullptr;
    for (const PlacedAt& placed : survey_.head.placed) {
      std::int64_t delta = moves_.shift_of(placed.position);
      if (delta == 0) continue;
      if (const NumberRead* number = survey_.finder.last_equal(placed.stated, placed.numbers))
        numbers_.put(*number, number->value + delta);
      else if (first_unmatched == nullptr || placed.stated < first_unmatched->stated)
        first_unmatched = &placed;
    }
    if (strategy_.by_base && first_unmatched != nullptr) move_base(*first_unmatched);
    for (const RangeRead& within : survey_.head.withins) {
      std::int64_t delta = moves_.growth_of(within);
      if (delta == 0) continue;
      if (const NumberRead* number =
              survey_.finder.last_equal(static_cast<std::int64_t>(within.length), within.numbers))
        numbers_.put(*number, number->value + delta);
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
      if (moves_.moved(at) != at) found = &read;
    }
    if (found == nullptr) return;
    auto at = static_cast<std::uint64_t>(found->value);
    numbers_.put(*found, found->value + static_cast<std::int64_t>(moves_.moved(at) - at));
  }

  void set_equal_numbers(std::int64_t value, std::uint64_t added) {
    constexpr std::int64_t kTelling = 256;  // smaller numbers are often equal by chance
    if (value < kTelling) return;
    for (const NumberRead& number : survey_.head.numbers) {
      if (number.value == value && !numbers_.contains(number.at))
        numbers_.put(number, value + static_cast<std::int64_t>(added));
    }
  }

  Made assembled() {
    if (row_ != nullptr && row_->kind == RowChange::Kind::added) {
      Assembly with;
      with.add(new_row());
      edits_.push_back({row_->from, row_->from, std::move(with)});
    }
    for (const auto& [at, number] : numbers_.all()) {
      Assembly with;
      with.add(number.bytes);
      edits_.push_back({at, at + number.width, std::move(with)});
    }
    edits_.push_back({file_.size(), file_.size(), appended_});
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
    return {std::move(out), moves_.moved(file_.size()) + appended_.size(), moves_.parts(appended_.size())};
  }

  Survey& survey_;
  const DescribedFile& file_;
  Strategy strategy_;
  const std::map<std::size_t, PackedEntry>& packed_;
  const RowChange* row_;
  std::span<const Cut> cuts_;
  const AllWidened& widened_;
  std::vector<std::uint64_t> starts_;  // of entries and structures, sorted; the file's end
  std::uint64_t alignment_ = 1;
  std::map<std::size_t, Driver> offsets_;  // of entries that change
  Moves moves_;
  std::vector<Edit> edits_;
  NewNumbers numbers_;
  std::map<std::uint64_t, std::uint64_t>
      between_;  // bytes put in front of a place, for entries that shared theirs
  Assembly appended_;
  std::optional<Twin> twin_;
};

}  // namespace

Made attempt(Survey& survey, const Strategy& strategy, const std::map<std::size_t, PackedEntry>& packed,
             const RowChange* row, std::span<const Cut> cuts) {
  constexpr std::size_t kMostWidened = 8;
  AllWidened widened;
  for (;;) {
    try {
      return Attempt(survey, strategy, packed, row, cuts, widened).run();
    } catch (const NoRoom& number) {
      const Widened& wanted = number.wanted;
      if (widened.size() == kMostWidened || !widened.emplace(wanted.read.at, wanted).second)
        survey.fail(fmt::format("the number at offset {} has no room", wanted.read.at));
    }
  }
}

}  // namespace operculum::layout
