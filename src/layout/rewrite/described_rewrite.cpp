#include "layout/rewrite/described_rewrite.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "layout/rewrite/row_change.h"

namespace operculum::layout {
namespace {

/// They are tried in this order: what follows data is often aligned although that itself is not.
constexpr Strategy kStrategies[] = {
    {Strategy::Where::shift, 0},   {Strategy::Where::shift, 2},  {Strategy::Where::shift, 4},
    {Strategy::Where::shift, 8},   {Strategy::Where::shift, 16}, {Strategy::Where::append, 0},
    {Strategy::Where::append, 16},
};
constexpr std::size_t kMostRows = 256;  // that come, go or get other names at once

/// Tries ways until one leads to a result; the reason why the first one did not tells most.
class Trial {
 public:
  explicit Trial(const DescribedFile& file) : file_(file) {}

  template <typename Way>
  std::optional<Assembly> attempt(Way way) {
    try {
      return way();
    } catch (const Unsupported& error) {
      if (reason_.empty()) reason_ = error.what();
    } catch (const Malformed& error) {  // of reading the result: it would not be what is described any more
      if (reason_.empty()) {
        reason_ = fmt::format("Unsupported: writing {} back: the result would not be read: {}",
                              escape(file_.plan->title), error.what());
      }
    }
    return std::nullopt;
  }

  [[noreturn]] void fail(const std::string& otherwise) const {
    constexpr std::string_view kPrefix = "Unsupported: ";  // which the error has by itself
    throw Unsupported(reason_.empty() ? otherwise : reason_.substr(kPrefix.size()));
  }

 private:
  const DescribedFile& file_;
  std::string reason_;
};

Assembly with_contents(const DescribedFile& file, const Changes& changes, const Writing& writing) {
  Survey survey(file);
  std::map<std::size_t, PackedEntry> packed = pack_entries(survey, changes, writing);
  Trial trial(file);
  auto tried = [&]() -> std::optional<Assembly> {
    for (const Strategy& strategy : kStrategies) {
      if (auto made = trial.attempt([&] { return attempt(survey, strategy, packed); })) return made;
    }
    return std::nullopt;
  };
  if (auto made = tried()) return *std::move(made);
  // What packing makes larger is often kept as it is, and the description tells that by the lengths.
  if (store_what_grew(packed)) {
    if (auto made = tried()) return *std::move(made);
  }
  trial.fail("");
}

/// A container while its rows come and go, one after another.
class RowWork {
 public:
  RowWork(const DescribedFile& file, const Writing& writing) : file_(file), writing_(writing) {}

  void remove(const std::string& path) {
    drop_content(path);
    Survey survey(file_);
    take_first(survey, ways_to_remove(survey, index_of(survey, path)),
               fmt::format("removing \"{}\"", escape(path)));
  }

  void rename(const std::string& path, const std::string& to) {
    Survey survey(file_);
    take_first(survey, ways_to_rename(survey, index_of(survey, path), to),
               fmt::format("renaming \"{}\"", escape(path)));
  }

  void add(const std::string& path) {
    Survey survey(file_);
    std::string wanted = fmt::format("adding \"{}\"", escape(path));
    take_first(survey, ways_to_add(survey, most_alike(survey, path, wanted), path), wanted);
  }

  Assembly finish(const std::map<std::string, NewEntry>& contents) {
    Survey survey(file_);
    Changes by_index;
    for (const auto& [path, entry] : contents) by_index.replaced.emplace(index_of(survey, path), entry);
    if (!by_index.replaced.empty()) return with_contents(file_, by_index, writing_);
    Assembly whole;
    whole.add(file_.source);
    return whole;
  }

 private:
  static std::size_t index_of(const Survey& survey, const std::string& path) {
    std::span<const Entry> entries = survey.container->entries();
    auto found =
        std::find_if(entries.begin(), entries.end(), [&](const Entry& one) { return one.path == path; });
    if (found == entries.end()) throw Malformed(fmt::format("\"{}\" is not found again", escape(path)));
    return static_cast<std::size_t>(found - entries.begin());
  }

  /// Its bytes go where that can be; else they are left where nothing leads to them.
  void drop_content(const std::string& path) {
    NewEntry nothing;
    nothing.path = path;
    nothing.content = make_content(make_memory_source({}));
    Survey survey(file_);
    Changes changes;
    changes.replaced.emplace(index_of(survey, path), std::move(nothing));
    Trial trial(file_);
    if (auto made = trial.attempt([&] { return with_contents(file_, changes, writing_); }))
      file_.source = made->source();
  }

  /// An entry of the same kind, by the ending of its name; of the same folder where there is one.
  static std::size_t most_alike(const Survey& survey, const std::string& path, const std::string& wanted) {
    auto ending = [](std::string_view text) { return text.substr(std::min(text.rfind('.'), text.size())); };
    auto folder = [](std::string_view text) { return text.substr(0, text.size() - base_name(text).size()); };
    std::span<const Entry> entries = survey.container->entries();
    std::optional<std::size_t> best;
    int best_score = -1;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (entries[i].kind != EntryKind::file) continue;
      int score = (ending(entries[i].path) == ending(path) ? 1 : 0) +
                  (folder(entries[i].path) == folder(path) ? 2 : 0);
      if (score < best_score) continue;
      best = i;
      best_score = score;
    }
    if (!best)
      throw Unsupported(wanted + " in a described container without entries, whose rows would show how");
    return *best;
  }

  void take_first(Survey& survey, const std::vector<RowChange>& ways, const std::string& wanted) {
    Trial trial(file_);
    for (const RowChange& way : ways) {
      for (const Strategy& strategy : kStrategies) {
        if (strategy.where == Strategy::Where::append) continue;
        if (auto made = trial.attempt([&] { return attempt(survey, strategy, {}, &way); })) {
          file_.source = made->source();
          return;
        }
        if (way.rest_at) break;  // nothing moves, so alignments are all the same
      }
    }
    trial.fail(fmt::format("{}: {} has no table with a row for each entry, from which its name comes", wanted,
                           escape(file_.plan->title)));
  }

  DescribedFile file_;
  const Writing& writing_;
};

}  // namespace

Assembly rewrite_described(const DescribedFile& file, const Changes& changes, const Writing& writing) {
  if (changes.empty()) {
    Assembly whole;
    whole.add(file.source);
    return whole;
  }
  std::size_t rows = changes.added.size() + changes.removed.size() + changes.renamed.size();
  if (rows == 0) return with_contents(file, changes, writing);
  if (rows > kMostRows)
    throw Unsupported(fmt::format(
        "adding, removing and renaming more than {} entries of a described format at once", kMostRows));
  std::vector<std::string> paths;
  {
    auto container = open_described(file.plan, file.input, file.source, file.context);
    for (const Entry& entry : container->entries()) paths.push_back(entry.path);
  }
  RowWork work(file, writing);
  std::map<std::string, NewEntry> contents;
  for (std::size_t index : changes.removed) work.remove(paths[index]);
  for (const auto& [index, path] : changes.renamed) {
    work.rename(paths[index], path);
    paths[index] = path;
  }
  for (const auto& [index, entry] : changes.replaced) contents.emplace(paths[index], entry);
  for (const NewEntry& entry : changes.added) {
    if (entry.kind == EntryKind::folder) continue;  // there when something is in it
    if (entry.kind != EntryKind::file) throw Unsupported("links in a described container");
    work.add(entry.path);
    contents.emplace(entry.path, entry);
  }
  return work.finish(contents);
}

}  // namespace operculum::layout
