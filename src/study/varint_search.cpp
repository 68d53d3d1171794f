#include "study/varint_search.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <set>

#include "study/text_test.h"

namespace operculum::study {
namespace {

constexpr std::size_t kMostBegin = 64, kMostNumbers = 3, kLeastVarintRows = 4, kMostVarintRows = 100'000,
                      kVarintRowsKept = 4096, kVarintCountsTried = 8;
constexpr std::size_t kFewRows = 64;  // that tell whether numbers take more than a byte at all
constexpr std::size_t kTails[] = {0, 4, 1, 2, 8, 16};
constexpr double kLeastBits = 40, kBitsOfNamed = 3;

enum class Varint { leb128, vlq };

struct Number {
  std::uint64_t value = 0;
  std::size_t taken = 0;  ///< bytes; 0: there is none
};

Number read_varint(ByteView bytes, std::size_t at, Varint form) {
  constexpr std::size_t kMostTaken = 5;
  Number number;
  for (std::size_t i = 0; i < kMostTaken && at + i < bytes.size(); ++i) {
    std::uint64_t bits = bytes[at + i] & 0x7f;
    number.value = form == Varint::leb128 ? number.value | bits << (7 * i) : number.value << 7 | bits;
    if ((bytes[at + i] & 0x80) != 0) continue;
    if (form == Varint::leb128 && i > 0 && bits == 0) return {};  // nobody writes more than it takes
    number.taken = i + 1;
    return number;
  }
  return {};
}

/// How records are built.
struct RecordForm {
  Varint numbers;
  std::size_t before, after, tail;  ///< numbers in front of and behind the name; fixed bytes behind them

  std::size_t count() const { return before + after; }
};

struct Record {
  std::size_t begin = 0, end = 0;
  std::string_view name;
  std::uint64_t numbers[2 * kMostNumbers] = {};
  ByteView tail;
  bool long_number = false;  ///< one takes more than a byte
};

std::optional<Record> read_record(ByteView bytes, std::size_t at, const RecordForm& form) {
  Record record{at, at};
  for (std::size_t i = 0; i <= form.count(); ++i) {
    bool is_name = i == form.before;
    Number number = read_varint(bytes, record.end, form.numbers);
    if (number.taken == 0) return std::nullopt;
    record.end += number.taken;
    if (!is_name) {
      record.numbers[i < form.before ? i : i - 1] = number.value;
      record.long_number = record.long_number || number.taken > 1;
      continue;
    }
    if (number.value == 0 || number.value > kMostName || number.value > bytes.size() - record.end)
      return std::nullopt;
    record.name = as_text(bytes.subspan(record.end, static_cast<std::size_t>(number.value)));
    if (!study::is_name(record.name)) return std::nullopt;
    record.end += record.name.size();
  }
  if (form.tail > bytes.size() - record.end) return std::nullopt;
  record.tail = bytes.subspan(record.end, form.tail);
  record.end += form.tail;
  return record;
}

class VarintSearch {
 public:
  VarintSearch(const SpacePtr& space, const Subject& subject)
      : space_(space), subject_(subject), bytes_(space->bytes), frame_(subject, space) {}

  std::vector<Hypothesis> find() {
    for (std::size_t begin = 0; begin < std::min(kMostBegin, bytes_.size()); ++begin) {
      for (Varint numbers : {Varint::leb128, Varint::vlq}) {
        for (std::size_t before = 0; before <= kMostNumbers; ++before) {
          for (std::size_t after = before == 0 ? 1 : 0; after <= kMostNumbers; ++after) {
            for (std::size_t tail : kTails) {
              RecordForm form{numbers, before, after, tail};
              if (!read_record(bytes_, begin, form)) continue;
              table(begin, form);
              chain(begin, form);
            }
          }
        }
      }
    }
    return std::move(best_);
  }

 private:
  /// Records one behind the other: how many there are is told in front of them.
  void table(std::size_t begin, const RecordForm& form) {
    std::vector<Record> records;
    std::size_t at = begin, long_ones = 0;
    while (records.size() < kMostVarintRows) {
      auto record = read_record(bytes_, at, form);
      if (!record) break;
      at = record->end;
      long_ones += record->long_number ? 1 : 0;
      records.push_back(*record);
      if (records.size() == kFewRows && long_ones * 2 < records.size()) return;
    }
    if (records.size() < kLeastVarintRows || long_ones * 2 < records.size()) return;
    std::vector<std::pair<std::uint64_t, std::string>> counts;  // and the expression that tells it
    for (std::size_t taken = 1; taken <= 5 && taken <= begin; ++taken) {
      Number number = read_varint(bytes_, begin - taken, form.numbers);
      if (number.taken == taken && number.value >= kLeastVarintRows && number.value <= records.size())
        counts.emplace_back(number.value, fmt::format("({} at {})", name_of(form.numbers), begin - taken));
    }
    for (std::uint64_t number : frame_.places(records.size() + 1)) {
      if (number >= kLeastVarintRows && number <= records.size() && counts.size() < kVarintCountsTried)
        counts.emplace_back(number, "");
    }
    for (const auto& [count, told] : counts) {
      Grid grid = grid_of(std::span(records).first(static_cast<std::size_t>(count)), form);
      std::vector<bool> free(grid.shape.fixed());
      for (std::size_t i = 0; i < free.size(); ++i)
        free[i] = i < form.count() * kDecodedCell && (i % kDecodedCell < 4 || subject_.size() >> 32 != 0);
      std::vector<Pair> pairs = find_pairs(grid, subject_.size(), free);
      std::erase_if(pairs, [](const Pair& pair) {
        return pair.shift != 0 || pair.offset.at % kDecodedCell != 0 || pair.offset.form.width < 4 ||
               pair.offset.form.big ||
               (pair.size && (pair.size->at % kDecodedCell != 0 || pair.size->form.big));
      });
      std::vector<Hypothesis> found;
      keep_explained(found, grid, frame_, pairs);
      if (found.empty()) {
        if (auto by_sizes = explain(grid, frame_, {})) found.push_back(std::move(*by_sizes));
      }
      for (Hypothesis& one : found) {
        if (!told.empty()) one.count = told;
        keep_best(best_, std::move(one));
      }
    }
  }

  /// Records with their data behind, the last one's up to the end of the file. One of the numbers is its
  /// size.
  void chain(std::size_t begin, const RecordForm& form) {
    if (space_->end() != subject_.size()) return;
    for (std::size_t size = 0; size < form.count(); ++size) {
      std::vector<Record> records;
      std::size_t at = begin;
      double bits = 0;
      std::size_t long_ones = 0;
      std::uint64_t before = UINT64_MAX;
      while (at < bytes_.size() && records.size() < kMostVarintRows) {
        auto record = read_record(bytes_, at, form);
        if (!record || record->numbers[size] > bytes_.size() - record->end) break;
        at = record->end + static_cast<std::size_t>(record->numbers[size]);
        bits += kBitsOfNamed + (record->numbers[size] != before ? std::bit_width(record->numbers[size]) : 0);
        before = record->numbers[size];
        long_ones += record->long_number ? 1 : 0;
        records.push_back(*record);
        if (records.size() == kFewRows && long_ones == 0) break;  // a text leads on from anywhere
      }
      if (at != bytes_.size() || records.size() < kLeastVarintRows || bits < kLeastBits) continue;
      Grid grid = grid_of(records, form);
      grid.shape.data_behind = true;
      grid.end = at;
      Placement placement;
      placement.size = Column{Role::size, size * kDecodedCell, {kDecodedCell, false}, kDecodedCell};
      placement.size->why = "leads from each header to the next, and at last to the end of the file";
      placement.begin = records.front().end;
      placement.end = at;
      placement.bits = std::min(bits, 400.0);
      if (auto found = explain(std::move(grid), frame_, {}, placement)) keep_best(best_, std::move(*found));
    }
  }

  Grid grid_of(std::span<const Record> records, const RecordForm& form) const {
    Grid grid;
    grid.space = space_;
    grid.varints = name_of(form.numbers);
    grid.varints_end = form.count() * kDecodedCell;
    grid.shape.before = form.before * kDecodedCell;
    grid.shape.after = form.after * kDecodedCell + form.tail;
    grid.shape.text = TextEnd::counted;
    grid.begin = records.front().begin;
    grid.end = records.back().end;
    grid.count = records.size();
    for (const Record& record : records.first(std::min(records.size(), kVarintRowsKept))) {
      for (std::size_t i = 0; i < form.count(); ++i) put_decoded(grid.cells, record.numbers[i]);
      grid.cells.insert(grid.cells.end(), record.tail.begin(), record.tail.end());
      grid.texts.emplace_back(record.name);
      grid.starts.push_back(record.begin);
      grid.ends.push_back(record.end);
    }
    grid.break_at = grid.rows();
    return grid;
  }

  static std::string_view name_of(Varint form) { return form == Varint::leb128 ? "leb128" : "vlq"; }

  SpacePtr space_;
  const Subject& subject_;
  ByteView bytes_;
  Frame frame_;
  std::vector<Hypothesis> best_;
};

}  // namespace

std::vector<Hypothesis> search_varints(const SpacePtr& space, const Subject& subject) {
  if (!space->plain || space->at != 0) return {};
  return VarintSearch(space, subject).find();
}

}  // namespace operculum::study
