#include "layout/rewrite/opened_parts.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "base/error.h"
#include "base/text.h"
#include "io/compare.h"
#include "io/flatten.h"
#include "layout/rewrite/settle.h"
#include "layout/rewrite/strategies.h"
#include "layout/run/step_packers.h"

namespace operculum::layout {
namespace {

constexpr std::uint64_t kPartAlignment = 4096;      // of parts behind the file, with a gap in front of each
constexpr std::uint64_t kMostOpened = 64ull << 20;  // bytes of all parts
constexpr std::size_t kMostParts = 64;
constexpr std::size_t kClosingRounds = 8;  // of packing parts, whose length changes what others say

/// Lays parts behind a file, in order.
class Layer {
 public:
  explicit Layer(const SourcePtr& file) { all_.add(file); }

  void add(OpenedPart part, const SourcePtr& plain) {
    std::uint64_t at = (all_.size() / kPartAlignment + 1) * kPartAlignment;
    all_.add_zeros(at - all_.size());
    part.at = at;
    part.length = plain->size();
    all_.add(plain);
    parts_.push_back(part);
  }

  DescribedFile over(const DescribedFile& file, std::uint64_t end) const {
    DescribedFile out = file;
    out.source = all_.source();
    out.end = end;
    out.parts = parts_;
    return out;
  }

 private:
  Assembly all_;
  std::vector<OpenedPart> parts_;
};

bool has_way_back(const Recipe& recipe) {
  std::vector<std::string_view> known = packable_steps();
  return !recipe.steps.empty() && recipe.missing.empty() &&
         std::all_of(recipe.steps.begin(), recipe.steps.end(), [&](const Step& step) {
           return std::find(known.begin(), known.end(), step.kind->name) != known.end();
         });
}

SourcePtr plain_of(const RecipePtr& recipe, const DescribedFile& file) {
  return spool(*open_recipe(recipe, std::nullopt), file.context->spool);
}

/// What a container reads beside its own bytes, for its head and for any entry.
struct ReadBeside {
  std::vector<FileRead> files;  ///< each once
  bool joined = false;          ///< some bytes are joined of several places
};

/// Whether a description has files beside at all, for which each entry has to be looked at.
bool may_name_files(const Plan& plan) {
  const std::string& text = plan.description.text;
  for (std::size_t at = text.find("file"); at != std::string::npos; at = text.find("file", at + 1)) {
    std::size_t next = text.find_first_not_of(" \t", at + 4);
    if (next != std::string::npos && text[next] == '(') return true;
  }
  return false;
}

ReadBeside read_beside(DescribedContainer& container, const Recorder& head, const Plan& plan) {
  std::span<const Entry> entries = container.entries();
  ReadBeside out{head.files};
  if (!may_name_files(plan)) return out;
  for (const PartMade& made : head.parts) out.joined |= !made.recipe->parts.empty();
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!entries[i].has_data()) continue;
    try {
      EntryLook look = container.look(i);
      out.joined |= look.recipe && !look.recipe->parts.empty();
      for (const FileRead& read : look.reads.files) {
        bool known = std::any_of(out.files.begin(), out.files.end(),
                                 [&](const FileRead& one) { return one.name == read.name; });
        if (!known) out.files.push_back(read);
      }
    } catch (const Malformed&) {
      continue;  // damaged before
    }
  }
  return out;
}

/// Lays open the files that are not yet; true when there are some.
bool open_files(const DescribedFile& file, const ReadBeside& beside, Layer& layer) {
  OpenedPart joined;
  std::vector<SourcePtr> bytes;
  bool more = false;
  for (const FileRead& read : beside.files) {
    bool known = std::any_of(file.parts.begin(), file.parts.end(), [&](const OpenedPart& part) {
      return std::any_of(part.files.begin(), part.files.end(),
                         [&](const OpenedFile& one) { return one.name == read.name; });
    });
    if (known) continue;
    more = true;
    joined.files.push_back({read.name, read.source});
    bytes.push_back(read.source);
    if (beside.joined) continue;
    layer.add(std::exchange(joined, {}), read.source);
    bytes.clear();
  }
  if (!bytes.empty()) layer.add(joined, make_joined(bytes));
  return more;
}

/// Opens what is decoded of bytes that can be changed already; true when there was something.
bool open_more(DescribedFile& file) {
  Recorder reads;
  OnTrial container = open_on_trial(file, file.source, &reads);
  container->entries();
  ReadBeside beside = read_beside(*container, reads, *file.plan);
  Layer layer(make_slice(file.source, 0, file.size()));
  std::uint64_t opened = 0;
  for (const OpenedPart& part : file.parts) {
    layer.add(part, make_slice(file.source, part.at, part.length));
    opened += part.is_file() ? 0 : part.length;
  }
  bool more = open_files(file, beside, layer);
  for (const PartMade& made : reads.parts) {
    bool known = std::any_of(file.parts.begin(), file.parts.end(), [&](const OpenedPart& part) {
      return !part.is_file() && part.ordinal == made.ordinal;
    });
    if (known || made.ordinal >= kMostParts || !has_way_back(*made.recipe)) continue;
    SourcePtr packed = stored_bytes(made.recipe);
    if (!packed || !extent_of(*packed, *file.source).there) continue;
    SourcePtr plain = plain_of(made.recipe, file);
    if ((opened += plain->size()) > kMostOpened) break;
    layer.add({made.ordinal, {}, 0, 0}, plain);
    more = true;
  }
  if (more) file = layer.over(file, file.size());
  return more;
}

/// Packs parts again, one after another, until each is what its packed bytes give.
class Closing {
 public:
  Closing(DescribedFile file, const Writing& writing) : file_(std::move(file)), writing_(writing) {}

  DescribedFile run() {
    for (std::size_t round = 0; round < kClosingRounds * std::max<std::size_t>(file_.parts.size(), 1);
         ++round) {
      Survey survey(file_);
      auto part = first_open(survey);
      if (!part) return file_;
      pack(survey, *part, round);
    }
    throw Unsupported(
        fmt::format("writing {} back: its packed tables do not come to rest", escape(file_.plan->title)));
  }

 private:
  /// A part whose packed bytes give something else; those that lie in others first.
  std::optional<std::size_t> first_open(const Survey& survey) const {
    for (std::size_t i = file_.parts.size(); i-- > 0;) {
      if (!same(survey, i)) return i;
    }
    return std::nullopt;
  }

  SourcePtr plain(std::size_t part) const {
    return make_slice(file_.source, file_.parts[part].at, file_.parts[part].length);
  }

  bool same(const Survey& survey, std::size_t part) const {
    const EntryLook& look = survey.looks[survey.index_of_part(part)];
    if (!look.recipe) return true;  // a file, or not made any more
    try {
      return same_bytes(*open_recipe(look.recipe, std::nullopt), *make_source_stream(plain(part)));
    } catch (const Malformed&) {
      return false;
    }
  }

  void pack(Survey& survey, std::size_t part, std::size_t round) {
    std::size_t index = survey.index_of_part(part);
    const Recipe& recipe = *survey.looks[index].recipe;
    auto [settings, fresh] = settings_.try_emplace(file_.parts[part].ordinal);
    if (fresh) settings->second = settings_of(recipe);
    PackedEntry packed;
    packed.plain = make_content(plain(part));
    packed.plain_size = file_.parts[part].length;
    settings->second.plain_size = packed.plain_size;
    StreamPtr stream = pack_steps(recipe.steps, packed.plain->stream(), settings->second);
    packed.stored = spool(*stream, file_.context->spool);
    bool restless = round >= 2 * file_.parts.size();  // then it only grows, filled up with zeros
    if (restless && packed.stored->size() < survey.extents[index].length) {
      Assembly filled;
      filled.add(packed.stored);
      filled.add_zeros(survey.extents[index].length - packed.stored->size());
      packed.stored = filled.source();
    }
    Trial trial(file_);
    auto made = by_any_strategy(survey, {{index, packed}}, trial);
    if (!made) trial.fail("");
    file_ = continued(file_, *made);
  }

  /// Of what was packed before anything changed.
  PackSettings settings_of(const Recipe& recipe) const {
    std::string_view codec = codec_of(*recipe.steps.back().kind);
    if (codec.empty()) return {};
    Recipe front = recipe;
    front.steps.pop_back();
    SourcePtr packed = plain_of(std::make_shared<Recipe>(front), file_);
    SourcePtr before = plain_of(std::make_shared<Recipe>(recipe), file_);
    return settings_like(codec, packed, *make_content(before), before->size(), "the packed table", writing_);
  }

  DescribedFile file_;
  const Writing& writing_;
  std::map<std::size_t, PackSettings> settings_;  // by a part's ordinal
};

bool is_same(const Source& bytes, const Source& before) {
  if (bytes.size() != before.size()) return false;
  for (std::uint64_t at = 0; at < bytes.size();) {
    auto run = trace(bytes, at, before);
    if (!run || run->at != at) return false;
    at += run->length;
  }
  return true;
}

void hand_over(const OpenedPart& part, const SourcePtr& all, const Writing& writing) {
  std::vector<std::uint64_t> cuts = part.cuts();
  for (std::size_t i = 0; i < part.files.size(); ++i) {
    const OpenedFile& file = part.files[i];
    SourcePtr bytes = make_slice(all, cuts[i], cuts[i + 1] - cuts[i]);
    bool changed = !is_same(*bytes, *file.before);
    if (writing.beside) {
      writing.beside({file.name, bytes, file.before, changed});
    } else if (changed) {
      throw Unsupported(fmt::format("changing \"{}\", a file beside the container", escape(file.name)));
    }
  }
}

}  // namespace

DescribedFile with_parts_open(const DescribedFile& file) {
  DescribedFile out = file;
  while (open_more(out)) continue;
  return out;
}

DescribedFile continued(const DescribedFile& before, const Made& made) {
  SourcePtr all = flattened(made.bytes.source());
  if (!before.end) {
    DescribedFile out = before;
    out.source = all;
    return out;
  }
  Layer layer(make_slice(all, 0, made.size));
  for (const OpenedPart& part : made.parts) layer.add(part, make_slice(all, part.at, part.length));
  return layer.over(before, made.size);
}

Assembly with_parts_closed(DescribedFile file, const Writing& writing) {
  file = Closing(std::move(file), writing).run();
  Layer files(make_slice(file.source, 0, file.size()));
  for (const OpenedPart& part : file.parts)
    if (part.is_file()) files.add(part, make_slice(file.source, part.at, part.length));
  file = files.over(file, file.size());
  SourcePtr all = settle_sums(file).source();
  for (const OpenedPart& part : file.parts) hand_over(part, all, writing);
  Assembly out;
  out.add(make_slice(all, 0, file.size()));
  return out;
}

}  // namespace operculum::layout
