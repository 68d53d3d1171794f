#include "study/packing.h"

#include <algorithm>
#include <map>
#include <set>

#include "base/error.h"
#include "codec/lzss.h"
#include "layout/run/step.h"
#include "layout/run/step_arguments.h"

namespace operculum::study {
namespace {

constexpr std::size_t kRowsTried = 12;
constexpr std::uint64_t kMostLax = 256 << 10;  // bytes of an entry that codecs without an end are tried on
constexpr std::uint64_t kMostBehind = 18;      // bytes that a codec without an end makes of its last bits
constexpr std::uint64_t kMostTried = 4 << 20;  // bytes of an entry, packed or not

/// A codec as the layout language calls it, with its arguments.
struct Way {
  std::string text;
  std::string_view step;
  std::vector<std::pair<std::string_view, std::string>> texts;
  std::vector<std::pair<std::string_view, std::int64_t>> numbers;
  bool ends_itself = true;  ///< knows its end without a size
};

std::vector<Way> all_ways() {
  std::vector<Way> ways;
  for (std::string_view name :
       {"zlib", "deflate", "gzip", "zstd", "xz", "bzip2", "lz4", "lzma_alone", "compress"})
    ways.push_back({std::string(name), name, {}, {}});
  for (std::string_view name : {"lz4_block", "lzo"}) ways.push_back({std::string(name), name, {}, {}, false});
  auto lzss = [&](const std::string& text, std::vector<std::pair<std::string_view, std::string>> texts,
                  std::vector<std::pair<std::string_view, std::int64_t>> numbers) {
    ways.push_back({"lzss" + (text.empty() ? "" : "(" + text + ")"), "lzss", std::move(texts),
                    std::move(numbers), false});
  };
  constexpr std::string_view kTokens[] = {"pppppppp PPPPllll", "llllPPPP pppppppp", "ppppllll PPPPPPPP",
                                          "pppppppp llllPPPP", "PPPPPPPP ppppllll", "llllpppp PPPPPPPP"};
  for (std::string_view token : kTokens) {
    for (bool ring : {true, false}) {
      for (int literal : {1, 0}) {
        for (bool low : {true, false}) {
          for (int detail : {0, 1}) {  // a ring that begins at 0, distances that begin with 0
            std::vector<std::pair<std::string_view, std::string>> texts;
            std::vector<std::pair<std::string_view, std::int64_t>> numbers;
            std::string text;
            auto add_text = [&](std::string_view name, std::string_view value) {
              texts.emplace_back(name, value);
              text += fmt::format("{}{} = \"{}\"", text.empty() ? "" : ", ", name, value);
            };
            auto add_number = [&](std::string_view name, std::int64_t value) {
              numbers.emplace_back(name, value);
              text += fmt::format("{}{} = {}", text.empty() ? "" : ", ", name, value);
            };
            if (token != kTokens[0]) add_text("token", token);
            if (!ring) add_text("offsets", "back");
            if (ring && detail == 1) add_number("start", 0);
            if (!ring && detail == 1) add_number("nearest", 0);
            if (literal == 0) add_number("literal", 0);
            if (!low) add_text("flags", "high");
            lzss(text, std::move(texts), std::move(numbers));
          }
        }
      }
    }
  }
  for (std::string_view form : {"packbits", "pairs", "high_bit", "top_bits"})
    ways.push_back({fmt::format("rle(\"{}\")", form), "rle", {{"form", std::string(form)}}, {}});
  ways.push_back({"lzh", "lzh", {}, {}, false});
  return ways;
}

/// What comes out of a codec; nothing when it fails, or gives more than `most` bytes.
std::optional<Bytes> decoded(const Way& way, const Bytes& packed, std::optional<std::uint64_t> size,
                             std::uint64_t most) {
  const layout::StepKind* kind = layout::find_step(way.step);
  if (kind == nullptr) return std::nullopt;
  layout::StepArguments arguments;
  for (const layout::StepParameter& parameter : kind->parameters) {
    layout::StepArgument argument{parameter.number, {}, std::string(parameter.text), false};
    for (const auto& [name, value] : way.texts) {
      if (name == parameter.name) argument = {0, {}, value, true};
    }
    for (const auto& [name, value] : way.numbers) {
      if (name == parameter.name) argument = {value, {}, {}, true};
    }
    arguments.push_back(std::move(argument));
  }
  try {
    StreamPtr stream = kind->open(make_source_stream(make_memory_source(packed)), arguments, size);
    return read_all(*stream, most);
  } catch (const std::exception&) {
    return std::nullopt;
  }
}

/// A row that codecs are tried on.
struct Sample {
  std::size_t row;
  DataRun run;
  Bytes bytes;
};

/// The least that so many packed bytes may unpack to: what cannot be packed grows a little.
std::uint64_t least_unpacked(std::uint64_t packed) {
  constexpr std::uint64_t kFrame = 32, kShare = 64;
  return packed - std::min(packed, kFrame + packed / kShare);
}

/// Columns that could be unpacked sizes: free, and hardly below the stored size in packed rows.
std::vector<Column> sizes_that_grow(const Hypothesis& found, const std::vector<DataRun>& runs) {
  std::vector<Column> all;
  const Grid& grid = found.grid;
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::are_texts);
  for (NumberForm form : {NumberForm{4, false},
                          {4, true},
                          {8, false},
                          {8, true},
                          {3, false},
                          {3, true},
                          {2, false},
                          {2, true}}) {
    for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
      if (!may_lie(grid, free, at, form)) continue;
      std::size_t larger = 0, sane = 0, rows = 0;
      for (std::size_t i = 0; i < runs.size(); ++i) {
        if (runs[i].size == 0) continue;
        ++rows;
        std::uint64_t value = grid.value(i, at, form);
        if (value > 0 && value >= least_unpacked(runs[i].size) &&
            value < std::max<std::uint64_t>(runs[i].size * 2048, 65536))
          ++sane;
        if (value > runs[i].size) ++larger;
      }
      if (rows > 0 && larger > 0 && sane * 10 >= rows * 9)
        all.push_back({Role::unpacked, at, form, form.width});
    }
  }
  return all;
}

/// A column of few values that tells exactly the rows in `packed` from those in `stored`.
std::optional<Column> choice_of(const Hypothesis& found, const std::vector<std::size_t>& packed,
                                const std::vector<std::size_t>& stored) {
  const Grid& grid = found.grid;
  std::vector<bool> free = free_bytes(found.columns, grid.shape.fixed(), ShortNames::are_texts);
  for (NumberForm form : {NumberForm{4, false}, {4, true}, {2, false}, {2, true}, {1, false}}) {
    for (std::size_t at = 0; at + form.width <= grid.shape.fixed(); ++at) {
      if (!may_lie(grid, free, at, form)) continue;
      std::set<std::uint64_t> a, b;
      for (std::size_t row : packed) a.insert(grid.value(row, at, form));
      for (std::size_t row : stored) b.insert(grid.value(row, at, form));
      if (a.size() == 1 && b.size() == 1 && *a.begin() != *b.begin()) {
        Column column{Role::packing, at, form, form.width};
        column.detail = std::to_string(*a.begin());
        return column;
      }
    }
  }
  return std::nullopt;
}

/// The flags beside the size that tell exactly the rows in `packed` from those in `stored`; nothing when they
/// do not.
std::optional<std::uint64_t> flags_of(const Hypothesis& found, const std::vector<std::size_t>& packed,
                                      const std::vector<std::size_t>& stored) {
  const auto& size = found.placement.size;
  if (!size || size->bits == 0 || found.placement.size_is_end || packed.empty()) return std::nullopt;
  std::uint64_t flags = size->flags(found.grid, packed.front());
  auto has = [&](std::size_t row) { return size->flags(found.grid, row) == flags; };
  bool told =
      std::all_of(packed.begin(), packed.end(), has) && std::none_of(stored.begin(), stored.end(), has);
  return told ? std::optional(flags) : std::nullopt;
}

/// What one codec did with the rows tried.
struct Outcome {
  const Way* way = nullptr;
  std::optional<Column> size;
  std::vector<std::size_t> packed, stored;
};

Outcome try_way(const Way& way, std::size_t number, const std::optional<Column>& size, const Grid& grid,
                const std::vector<Sample>& samples, Decodings& decodings) {
  Outcome outcome{&way, size, {}, {}};
  std::size_t failed = 0;
  for (const Sample& sample : samples) {
    std::optional<std::uint64_t> wanted;
    auto decoded_size = [&] {
      std::uint64_t limit = wanted ? *wanted + kMostBehind + 1 : kMostTried;
      return decodings.size({number, sample.run.at, sample.run.size, limit}, [&] {
        auto bytes = decoded(way, sample.bytes, std::nullopt, limit);
        return bytes ? std::optional<std::uint64_t>(bytes->size()) : std::nullopt;
      });
    };
    if (size) {
      wanted = size->value(grid, sample.row);
      if (*wanted == sample.run.size) {  // stored, or what is packed happens to be as long
        bool is_packed = way.ends_itself && way.step != "rle" && decoded_size() == wanted;
        (is_packed ? outcome.packed : outcome.stored).push_back(sample.row);
        continue;
      }
      if (*wanted > kMostTried) continue;
      // Without an end of its own a codec decodes anything, for long: the short entries have to do.
      if (!way.ends_itself && (sample.run.size > kMostLax || *wanted > sample.run.size * 20)) continue;
    }
    auto came_out = decoded_size();
    std::uint64_t most = way.ends_itself || !wanted ? 0 : kMostBehind;
    bool right = came_out && (wanted ? *came_out >= *wanted && *came_out <= *wanted + most : *came_out > 16);
    if (right) {
      outcome.packed.push_back(sample.row);
    } else {
      outcome.stored.push_back(sample.row);
      if (++failed >= (way.ends_itself ? 4u : 1u) && outcome.packed.empty()) break;
    }
  }
  return outcome;
}

/// LZSS decodes almost anything to any size: what it made has to be as long without being told, too.
bool is_proof(const Outcome& outcome, std::size_t samples) {
  if (outcome.packed.empty()) return false;
  bool lax = !outcome.way->ends_itself || outcome.way->step == "rle";
  if (!outcome.size && lax) return false;
  return !lax ||
         (outcome.packed.size() >= std::min<std::size_t>(3, samples) && outcome.packed.size() * 4 >= samples);
}

/// Adds an entry whose two sizes are equal, when it cannot be decoded: such are not packed.
void stored_as_they_are(Outcome& outcome, const Hypothesis& found, const Subject& subject,
                        const std::vector<DataRun>& runs) {
  if (!outcome.size) return;
  for (std::size_t row = 0; row < runs.size(); ++row) {
    if (runs[row].size == 0 || runs[row].size > kMostTried ||
        outcome.size->value(found.grid, row) != runs[row].size)
      continue;
    auto bytes =
        decoded(*outcome.way, subject.read(runs[row].at, runs[row].size), runs[row].size, runs[row].size + 1);
    bool packed = bytes && bytes->size() == runs[row].size && outcome.way->ends_itself;
    (packed ? outcome.packed : outcome.stored).push_back(row);
    if (outcome.stored.size() > 64) return;
  }
}

/// Where both sizes are told, every row tells whether it is packed.
void sort_rows(Outcome& outcome, const Grid& grid, const std::vector<DataRun>& runs) {
  if (!outcome.size) return;
  outcome.packed.clear();
  outcome.stored.clear();
  for (std::size_t row = 0; row < runs.size(); ++row)
    (outcome.size->value(grid, row) == runs[row].size ? outcome.stored : outcome.packed).push_back(row);
}

std::vector<Sample> choose_samples(const Subject& subject, const std::vector<DataRun>& runs) {
  std::vector<std::size_t> rows;
  for (std::size_t i = 0; i < runs.size(); ++i) {
    if (runs[i].size >= 8 && runs[i].size <= kMostTried) rows.push_back(i);
  }
  std::stable_sort(rows.begin(), rows.end(),
                   [&](std::size_t a, std::size_t b) { return runs[a].size < runs[b].size; });
  std::vector<Sample> samples;
  std::size_t step = std::max<std::size_t>(1, rows.size() / kRowsTried);
  for (std::size_t i = 0; i < rows.size() && samples.size() < kRowsTried; i += step)
    samples.push_back({rows[i], runs[rows[i]], subject.read(runs[rows[i]].at, runs[rows[i]].size)});
  return samples;
}

}  // namespace

std::vector<DataRun> data_runs(const Hypothesis& found) {
  const Grid& grid = found.grid;
  const Placement& placement = found.placement;
  std::vector<DataRun> runs(grid.rows());
  std::uint64_t next = placement.begin;
  for (std::size_t i = 0; i < runs.size(); ++i) {
    std::uint64_t size =
        placement.size ? placement.size->value(grid, i) - static_cast<std::uint64_t>(placement.bias) : 0;
    if (grid.shape.data_behind) {
      if (placement.counts_rest)
        size -= grid.ends[i] - grid.starts[i] - placement.size->at - placement.size->width;
      runs[i] = {grid.ends[i], size};
      continue;
    }
    if (!placement.offset) {
      runs[i] = {next, size};
      next += round_up(size, placement.align);
      continue;
    }
    runs[i].at = placement.offset->value(grid, i) + placement.base;
    if (placement.size_is_end) {
      std::uint64_t end = size + placement.base;
      size = end - std::min(end, runs[i].at);
    } else if (!placement.size) {
      std::uint64_t end = i + 1 < runs.size() && i + 1 != grid.break_at
                              ? placement.offset->value(grid, i + 1) + placement.base
                              : placement.end;
      size = end - std::min(end, runs[i].at);
    }
    runs[i].size = size;
  }
  return runs;
}

void find_packing(Hypothesis& found, const Subject& subject, Decodings& decodings) {
  std::vector<DataRun> runs = data_runs(found);
  std::vector<Sample> samples = choose_samples(subject, runs);
  if (samples.empty()) return;
  std::vector<std::optional<Column>> sizes;
  for (Column& column : sizes_that_grow(found, runs)) sizes.emplace_back(column);
  if (sizes.size() > 6) sizes.resize(6);
  sizes.emplace_back(std::nullopt);
  static const std::vector<Way> kWays = all_ways();
  std::optional<Outcome> best;
  for (const auto& size : sizes) {
    for (std::size_t number = 0; number < kWays.size(); ++number) {
      const Way& way = kWays[number];
      if (!size && (!way.ends_itself || way.step == "rle")) continue;
      Outcome outcome = try_way(way, number, size, found.grid, samples, decodings);
      if (!is_proof(outcome, samples.size())) continue;
      if (!size && outcome.packed.size() * 10 < samples.size() * 9 &&
          !flags_of(found, outcome.packed, outcome.stored))
        continue;  // files of that kind among others
      if (!best || outcome.packed.size() > best->packed.size()) best = std::move(outcome);
      if (best->packed.size() == samples.size()) break;
    }
  }
  if (!best) return;
  found.packing.transform = best->way->text;
  found.bits += kMostPackingBits / 6 * static_cast<double>(std::min<std::size_t>(best->packed.size(), 6));
  found.evidence.push_back(fmt::format("{} of {} entries that were tried are unpacked by {}{}",
                                       best->packed.size(), samples.size(), best->way->step,
                                       best->size ? " to the size that their record tells" : ""));
  if (best->size) {
    best->size->why = "what comes out of the codec is as long";
    found.add(*best->size);
  }
  stored_as_they_are(*best, found, subject, runs);
  if (!best->stored.empty()) {
    sort_rows(*best, found.grid, runs);
    if (auto flags = flags_of(found, best->packed, best->stored)) {
      found.packing.condition = fmt::format("item.{}_flags == {}", best->size ? "stored" : "size", *flags);
    } else if (auto choice = choice_of(found, best->packed, best->stored)) {
      choice->why = fmt::format("is {} where data is packed, and only there", choice->detail);
      found.packing.condition = fmt::format("item.packing == {}", choice->detail);
      found.add(std::move(*choice));
    } else if (best->size && found.placement.size && !found.placement.size_is_end) {
      bool grown = std::any_of(best->packed.begin(), best->packed.end(), [&](std::size_t row) {
        return best->size->value(found.grid, row) < runs[row].size;
      });
      found.packing.condition = grown ? "item.stored != item.size" : "item.stored < item.size";
    }
  }
}

}  // namespace operculum::study
