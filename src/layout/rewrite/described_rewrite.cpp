#include "layout/rewrite/described_rewrite.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "layout/rewrite/name_parts.h"
#include "layout/rewrite/opened_parts.h"
#include "layout/rewrite/row_change.h"
#include "layout/rewrite/strategies.h"

namespace operculum::layout {
namespace {

constexpr Strategy kByBase = {Strategy::Where::shift, 0, true},
                   kFromBase = {Strategy::Where::shift, 0, false, true};
constexpr std::size_t kMostRows = 4096;  // that come, go or get other names at once

std::string_view ending_of(std::string_view path) {
  return path.substr(std::min(path.rfind('.'), path.size()));
}

Assembly as_it_is(const SourcePtr& source) {
  Assembly out;
  out.add(source);
  return out;
}

Made with_contents(const DescribedFile& file, const Changes& changes, const Writing& writing) {
  Survey survey(file);
  std::map<std::size_t, PackedEntry> packed = pack_entries(survey, changes, writing);
  Trial trial(file);
  if (auto made = by_any_strategy(survey, packed, trial)) return *std::move(made);
  // What packing makes larger is often kept as it is, and the description tells that by the lengths.
  if (store_what_grew(packed)) {
    if (auto made = by_any_strategy(survey, packed, trial)) return *std::move(made);
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
    std::size_t index = index_of(*survey.container, path);
    Ways ways(*this, survey, fmt::format("removing \"{}\"", escape(path)));
    if (!ways.take(ways_to_remove(survey, index)) && !ways.take(ways_to_unlink(survey, index)))
      ways.fail("nothing was found that leads to it alone and could be taken out");
  }

  /// Entries that follow one another go at once, where the description allows it.
  bool remove_run(std::size_t index, std::size_t count) {
    Survey survey(file_);
    Ways ways(*this, survey, "");
    return ways.take(ways_to_remove(survey, index, count));
  }

  void rename(const std::string& path, const std::string& to) {
    Survey survey(file_);
    rename_at(survey, index_of(*survey.container, path), to, fmt::format("renaming \"{}\"", escape(path)),
              path);
  }

  /// It is made of the entry that is most like it: first the same, then with its own path and content.
  void add(const NewEntry& entry) {
    Survey survey(file_);
    std::string wanted = fmt::format("adding \"{}\"", escape(entry.path)), reason;
    for (std::size_t like : most_alike(survey, entry.path, wanted)) {
      DescribedFile before = file_;
      try {
        Ways ways(*this, survey, wanted);
        if (!ways.take(ways_to_double(survey, like, entry.path)))
          ways.fail(
              "no element of a list was found that stands for one entry alone and could be doubled; where a "
              "new one belongs among links or in a tree is not stated");
        std::size_t index = ways.taken()->new_index;
        Survey doubled(file_);
        rename_at(doubled, index, entry.path, wanted, entry.path);
        Changes content;
        content.replaced.emplace(index, entry);
        file_ = continued(file_, with_contents(file_, content, writing_));
        return;
      } catch (const Unsupported& error) {
        file_ = before;
        if (reason.empty()) reason = without_prefix(error.what());
      }
    }
    throw Unsupported(reason);
  }

  DescribedFile finish(const std::map<std::string, NewEntry>& contents) {
    if (contents.empty()) return file_;
    OnTrial container = open_on_trial(file_, file_.source);
    Changes by_index;
    for (const auto& [path, entry] : contents) by_index.replaced.emplace(index_of(*container, path), entry);
    return continued(file_, with_contents(file_, by_index, writing_));
  }

 private:
  static std::size_t index_of(DescribedContainer& container, const std::string& path) {
    std::span<const Entry> entries = container.entries();
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
    OnTrial container = open_on_trial(file_, file_.source);
    Changes changes;
    changes.replaced.emplace(index_of(*container, path), std::move(nothing));
    Trial trial(file_);
    if (auto made = trial.attempt([&] { return with_contents(file_, changes, writing_); }))
      file_ = continued(file_, *made);
  }

  /// Entries of the same kind, by the ending of their names, of the same folder: some, the most alike first.
  static std::vector<std::size_t> most_alike(const Survey& survey, const std::string& path,
                                             const std::string& wanted) {
    constexpr std::size_t kMost = 3;
    auto folder = [](std::string_view text) { return text.substr(0, text.size() - base_name(text).size()); };
    std::span<const Entry> entries = survey.container->entries();
    auto score = [&](std::size_t i) {
      return (ending_of(entries[i].path) == ending_of(path) ? 1 : 0) +
             (folder(entries[i].path) == folder(path) ? 2 : 0);
    };
    std::vector<std::size_t> out;
    for (std::size_t i = entries.size(); i-- > 0;)
      if (entries[i].kind == EntryKind::file) out.push_back(i);
    if (out.empty())
      throw Unsupported(wanted + " in a described container without entries, whose rows would show how");
    std::stable_sort(out.begin(), out.end(),
                     [&](std::size_t a, std::size_t b) { return score(a) > score(b); });
    out.resize(std::min(out.size(), kMost));
    return out;
  }

  /// Why a name cannot be another one, where there is no way to try.
  static std::string why_no_name(const Survey& survey, std::size_t index, const std::string& to) {
    auto parts = name_parts(survey, survey.container->entries()[index].path, to);
    if (parts.empty()) return "no text or hash was found that its path comes from and that differs alone";
    return fmt::format("the field of its name at offset {} has room for {} bytes", parts[0].read->at,
                       parts[0].read->length);
  }

  /// `told_as`: by which path a person knows it.
  void rename_at(Survey& survey, std::size_t index, const std::string& to, const std::string& wanted,
                 const std::string& told_as) {
    file_.context->known_names.push_back(to);  // where the container has its hash alone
    Ways ways(*this, survey, wanted);
    if (!ways.take(ways_to_rename(survey, index, to))) ways.fail(why_no_name(survey, index, to));
    if (ways.taken()->by_hash)
      writing_.note(told_as,
                    "the container has only a hash of its name: --known-names tells it to whoever reads it");
  }

  /// Ways of one change, tried until one leads there.
  class Ways {
   public:
    Ways(RowWork& work, Survey& survey, std::string wanted)
        : work_(work), survey_(survey), wanted_(std::move(wanted)), trial_(work.file_) {}

    bool take(const std::vector<RowChange>& ways) {
      constexpr std::size_t kMostWays = 96;
      std::span<const RowChange> all(ways.data(), std::min(ways.size(), kMostWays));
      for (const RowChange& way : all)
        if (tried_exactly(way)) return true;
      for (const RowChange& way : all)
        if (way.rest_at && moves(way) && tried_aligned(way)) return true;  // with filling that was not there
      return false;
    }

    const std::optional<RowChange>& taken() const { return taken_; }

    /// `otherwise` is told where there was nothing to try.
    [[noreturn]] void fail(std::string_view otherwise) const {
      trial_.fail(fmt::format("{} in {}: {}", wanted_, escape(work_.file_.plan->title), otherwise));
    }

   private:
    /// What lies behind keeps its place where that is what the way says, else moves.
    bool tried_exactly(const RowChange& way) {
      if (way.rest_at || !moves(way)) return tried(way, strategies().front());
      return tried_aligned(way, 0) || tried(way, kByBase) || tried(way, kFromBase);
    }

    /// What lies behind moves and stays aligned to `least` bytes or more.
    bool tried_aligned(const RowChange& way, std::uint64_t least = 2) {
      for (const Strategy& strategy : strategies()) {
        bool fits = strategy.where == Strategy::Where::shift && strategy.alignment >= least;
        if (fits && tried(way, strategy)) return true;
      }
      return false;
    }

    static bool moves(const RowChange& way) { return way.with.size() != way.to - way.from; }

    bool tried(const RowChange& way, const Strategy& strategy) {
      bool by_link = way.kind == RowChange::Kind::removed && way.from == way.to;
      auto made =
          trial_.attempt([&] { return attempt(survey_, strategy, {}, &way); }, !way.rest_at && !by_link);
      if (!made) return false;
      work_.file_ = continued(work_.file_, *made);
      taken_ = way;
      return true;
    }

    RowWork& work_;
    Survey& survey_;
    std::string wanted_;
    Trial trial_;
    std::optional<RowChange> taken_;
  };

  DescribedFile file_;
  const Writing& writing_;
};

/// The paths of all entries, and which are files.
struct Listed {
  explicit Listed(const DescribedFile& file) {
    OnTrial container = open_on_trial(file, file.source);
    for (const Entry& entry : container->entries()) {
      paths.push_back(entry.path);
      is_file.push_back(entry.kind == EntryKind::file);
    }
  }
  std::vector<std::string> paths;
  std::vector<bool> is_file;
};

/// Where all files go and others come, one of those that go becomes the first that comes: with none left,
/// nothing would show how a row of a new one has to be.
Changes with_a_model(Changes changes, const Listed& listed) {
  auto first = std::find_if(changes.added.begin(), changes.added.end(),
                            [](const NewEntry& entry) { return entry.kind == EntryKind::file; });
  if (first == changes.added.end()) return changes;
  std::optional<std::size_t> model;
  for (std::size_t i = 0; i < listed.paths.size(); ++i) {
    if (!listed.is_file[i]) continue;
    if (!changes.removed.contains(i)) return changes;
    bool alike = ending_of(listed.paths[i]) == ending_of(first->path);
    if (!model || alike) model = i;
  }
  if (!model) return changes;
  changes.removed.erase(*model);
  changes.renamed.emplace(*model, first->path);
  changes.replaced.emplace(*model, std::move(*first));
  changes.added.erase(first);
  return changes;
}

/// Takes those out that follow one another and go at once; those that are left have to go one by one.
std::vector<std::size_t> remove_runs(RowWork& work, const std::set<std::size_t>& wanted) {
  constexpr std::size_t kFewest = 3;  // of fewer, one by one costs as much
  std::vector<std::size_t> removed(wanted.begin(), wanted.end());
  std::vector<std::size_t> left;
  for (std::size_t end = removed.size(); end > 0;) {
    std::size_t begin = end - 1;
    while (begin > 0 && removed[begin - 1] + 1 == removed[begin]) --begin;
    bool gone = end - begin >= kFewest && work.remove_run(removed[begin], end - begin);
    for (std::size_t i = begin; i < end && !gone; ++i) left.push_back(removed[i]);
    end = begin;
  }
  std::sort(left.begin(), left.end());
  return left;
}

/// One change after another, for each shows anew what the description makes of the file.
DescribedFile with_rows(const DescribedFile& file, const Changes& wanted, const Writing& writing) {
  Listed listed(file);
  std::vector<std::string>& paths = listed.paths;
  Changes changes = with_a_model(wanted, listed);
  RowWork work(file, writing);
  std::vector<std::size_t> removed = remove_runs(work, changes.removed);
  if (changes.added.size() + removed.size() + changes.renamed.size() > kMostRows)
    throw Unsupported(fmt::format(
        "adding, removing and renaming more than {} entries of a described format at once", kMostRows));
  std::map<std::string, NewEntry> contents;
  for (auto index = removed.rbegin(); index != removed.rend(); ++index)
    work.remove(paths[*index]);  // what is in a folder before the folder
  for (const auto& [index, path] : changes.renamed) {
    work.rename(paths[index], path);
    paths[index] = path;
  }
  for (const auto& [index, entry] : changes.replaced) contents.emplace(paths[index], entry);
  for (const NewEntry& entry : changes.added) {
    if (entry.kind == EntryKind::folder) continue;  // there when something is in it
    if (entry.kind != EntryKind::file) throw Unsupported("links in a described container");
    work.add(entry);
  }
  return work.finish(contents);
}

}  // namespace

std::vector<std::uint64_t> OpenedPart::cuts() const {
  std::vector<std::uint64_t> out = {at};
  for (std::size_t i = 0; i + 1 < files.size(); ++i)
    out.push_back(std::min(out.back() + files[i].before->size(), at + length));
  out.push_back(at + length);
  return out;
}

const OpenedPart* DescribedFile::part_at(std::uint64_t at) const {
  for (const OpenedPart& part : parts) {
    if (at >= part.at && at <= part.at + part.length) return &part;
  }
  return nullptr;
}

Assembly rewrite_described(const DescribedFile& file, const Changes& changes, const Writing& writing) {
  if (changes.empty()) return as_it_is(file.source);
  bool rows = !changes.added.empty() || !changes.removed.empty() || !changes.renamed.empty();
  DescribedFile opened = with_parts_open(file);
  if (rows) {
    DescribedFile made = with_rows(opened, changes, writing);
    return made.parts.empty() ? as_it_is(made.source) : with_parts_closed(made, writing);
  }
  Made made = with_contents(opened, changes, writing);
  if (made.parts.empty()) return std::move(made.bytes);
  return with_parts_closed(continued(opened, made), writing);
}

}  // namespace operculum::layout
