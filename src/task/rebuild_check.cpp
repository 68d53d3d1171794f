#include "task/rebuild_check.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <unordered_map>
#include <unordered_set>

#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "io/compare.h"
#include "task/files_beside.h"

namespace operculum {
namespace {

constexpr std::size_t kCheckedAtOnce = 1 << 20;
constexpr std::uint64_t kPart = 16 << 20;  // bytes that one thread compares

[[noreturn]] void differs(const std::string& what) {
  throw Malformed(
      fmt::format("the result was not kept: {} (a mistake of this program, please tell its makers)", what));
}

/// Bytes that are the same because they lie at the same place are not read.
bool equal_stored(const Source& before, const Source& after, const Source& base) {
  if (before.size() != after.size()) return false;
  for (std::uint64_t at = 0; at < before.size();) {
    auto old_place = trace(before, at, base);
    auto new_place = trace(after, at, base);
    std::uint64_t length = std::min<std::uint64_t>(kCheckedAtOnce, before.size() - at);
    bool same_place = old_place && new_place && old_place->at == new_place->at;
    if (same_place) length = std::min(old_place->length, new_place->length);
    if (!same_place && !same_range(before, at, after, at, length)) return false;
    at += length;
  }
  return true;
}

class PlanCheck {
 public:
  PlanCheck(const RebuildLayer& layer, const PlannedLayer& plan, bool quick, OpenContext& context,
            Progress& progress)
      : layer_(layer), plan_(plan), quick_(quick), progress_(progress) {
    Input input{make_content(plan.source), plan.name_in(layer), beside_planned(layer, plan)};
    after_ = layer.format->open(input, context)->written_as();
  }

  std::uint64_t run() {
    layer_.format->own_order ? pair_by_path() : pair_in_order();
    for_each_of(contents_.size(), 0, [this](std::size_t i) { contents_[i](); });
    for (const Finding& finding : after_->findings()) tell(finding);
    return contents_.size();
  }

 private:
  /// What stays is in the order that it had, what is new behind it.
  void pair_in_order() {
    const Changes& changes = plan_.changes;
    std::span<const Entry> before = layer_.container->entries(), after = after_->entries();
    std::size_t next = 0;
    for (std::size_t i = 0; i < before.size(); ++i) {
      if (changes.removed.contains(i)) continue;
      if (next == after.size()) differs(fmt::format("\"{}\" is missing in it", escape(before[i].path)));
      compare(i, next++);
    }
    for (const NewEntry& added : changes.added) {
      if (next == after.size()) differs(fmt::format("\"{}\" is missing in it", escape(added.path)));
      compare_new(added, added.path, next++);
    }
    if (next != after.size()) differs(fmt::format("\"{}\" is in it, too", escape(after[next].path)));
  }

  /// In an order of the format's own; the folders that new paths need are there, too.
  void pair_by_path() {
    const Changes& changes = plan_.changes;
    std::span<const Entry> before = layer_.container->entries(), after = after_->entries();
    for (std::size_t i = 0; i < after.size(); ++i) places_.emplace(after[i].path, i);
    std::vector<std::string_view> new_paths;
    std::size_t paired = 0;
    auto place_of = [&](const std::string& path) {
      auto found = places_.find(path);
      if (found == places_.end()) differs(fmt::format("\"{}\" is missing in it", escape(path)));
      ++paired;
      return found->second;
    };
    for (std::size_t i = 0; i < before.size(); ++i) {
      if (changes.removed.contains(i)) continue;
      auto renamed = changes.renamed.find(i);
      if (renamed != changes.renamed.end()) new_paths.push_back(renamed->second);
      compare(i, place_of(renamed == changes.renamed.end() ? before[i].path : renamed->second));
    }
    for (const NewEntry& added : changes.added) {
      new_paths.push_back(added.path);
      bool without_entry = added.kind == EntryKind::folder && !places_.contains(added.path);
      if (without_entry && has_beneath(after, added.path)) continue;  // folders of this container have none
      compare_new(added, added.path, place_of(added.path));
    }
    std::unordered_set<std::string_view> made;
    for (std::string_view path : new_paths) {
      for (auto slash = path.rfind('/'); slash != std::string_view::npos; slash = path.rfind('/')) {
        path = path.substr(0, slash);
        made.insert(path);
      }
    }
    for (const Entry& one : after) paired += made.erase(one.path) != 0 && is_new_folder(one) ? 1 : 0;
    if (paired != after.size()) differs("more is in it than there should be");
  }

  static bool has_beneath(std::span<const Entry> entries, const std::string& folder) {
    return std::any_of(entries.begin(), entries.end(),
                       [&](const Entry& one) { return one.path.starts_with(folder + "/"); });
  }

  /// Neither of the original nor asked for by itself.
  bool is_new_folder(const Entry& entry) const {
    if (entry.kind != EntryKind::folder) return false;
    const Changes& changes = plan_.changes;
    std::span<const Entry> before = layer_.container->entries();
    for (std::size_t i = 0; i < before.size(); ++i) {
      auto renamed = changes.renamed.find(i);
      const std::string& path = renamed == changes.renamed.end() ? before[i].path : renamed->second;
      if (path == entry.path && !changes.removed.contains(i)) return false;
    }
    return std::none_of(changes.added.begin(), changes.added.end(),
                        [&](const NewEntry& one) { return one.path == entry.path; });
  }

  /// A file under its other name is the same file.
  std::size_t file_of(std::size_t index) const {
    const Entry& after = after_->entries()[index];
    if (after.kind != EntryKind::hard_link) return index;
    auto found = places_.find(after.link_target());
    return found == places_.end() ? index : found->second;
  }

  /// A fault that the original did not have.
  void tell(const Finding& finding) const {
    if (finding.level != Finding::Level::fault) return;
    std::vector<Finding> known = layer_.container->findings();
    bool is_old = std::any_of(known.begin(), known.end(),
                              [](const Finding& one) { return one.level == Finding::Level::fault; });
    if (!is_old) differs(finding.text);
  }

  void compare(std::size_t old_index, std::size_t new_index) {
    const Entry& before = layer_.container->entries()[old_index];
    const Entry& after = after_->entries()[new_index];
    auto renamed = plan_.changes.renamed.find(old_index);
    auto replaced = plan_.changes.replaced.find(old_index);
    const std::string& path = renamed == plan_.changes.renamed.end() ? before.path : renamed->second;
    if (after.modified != before.modified || after.mode != before.mode)
      differs(fmt::format("the time or mode of \"{}\" is another one", escape(path)));
    if (replaced != plan_.changes.replaced.end()) return compare_new(replaced->second, path, new_index);
    if (after.path != path)
      differs(fmt::format("\"{}\" lies where \"{}\" was expected", escape(after.path), escape(path)));
    if (layer_.format->own_order ? !same_kind(before, after) : !same_row(before, after))
      differs(fmt::format("\"{}\" is listed in another way", escape(path)));
    if (quick_ || !before.has_data()) return;
    contents_.emplace_back(
        [this, old_index, place = file_of(new_index), path] { compare_kept(old_index, place, path); });
  }

  static bool same_row(const Entry& a, const Entry& b) {
    return a.kind == b.kind && a.size == b.size && a.method == b.method && a.flags == b.flags &&
           a.link_target() == b.link_target();
  }

  /// Which of a file's names comes first may be another one, and holes may lie elsewhere.
  static bool same_kind(const Entry& a, const Entry& b) {
    auto is_file = [](const Entry& one) {
      return one.kind == EntryKind::file || one.kind == EntryKind::hard_link;
    };
    if (is_file(a) && is_file(b)) return true;
    return a.kind == b.kind && a.link_target() == b.link_target();
  }

  void compare_kept(std::size_t old_index, std::size_t new_index, const std::string& path) {
    SourcePtr before = layer_.container->stored(old_index), after = after_->stored(new_index);
    ++progress_.entries;
    if (before && after) {
      if (!equal_stored(*before, *after, *layer_.source))
        differs(fmt::format("the bytes of \"{}\" are other ones", escape(path)));
      return;
    }
    StreamPtr old_bytes;
    try {
      old_bytes = layer_.container->content(old_index)->stream();
      if (!same_bytes(*old_bytes, *after_->content(new_index)->stream(),
                      [this](std::uint64_t count) { progress_.bytes += count; }))
        differs(fmt::format("the content of \"{}\" is another one", escape(path)));
    } catch (const Error& error) {
      // What could not be read before cannot be compared; it was copied as it lies.
      bool was_damaged = !readable(*layer_.container, old_index);
      if (!was_damaged) throw;
    }
  }

  static bool readable(Container& container, std::size_t index) {
    try {
      container.content(index)->stream()->skip(UINT64_MAX);
      return true;
    } catch (const Error&) {
      return false;
    }
  }

  void compare_new(const NewEntry& wanted, const std::string& path, std::size_t index) {
    const Entry& after = after_->entries()[index];
    if (after.path != path)
      differs(fmt::format("\"{}\" lies where \"{}\" was expected", escape(after.path), escape(path)));
    bool same = layer_.format->own_order && wanted.kind == EntryKind::file
                    ? after.kind == EntryKind::file || after.kind == EntryKind::hard_link
                    : after.kind == wanted.kind;
    if (!same) differs(fmt::format("\"{}\" is a {}", escape(path), name_of(after.kind)));
    if (wanted.kind == EntryKind::symbolic_link && after.link_target() != wanted.link_target)
      differs(fmt::format("the link \"{}\" leads elsewhere", escape(path)));
    if (wanted.kind != EntryKind::file) return;
    contents_.emplace_back(
        [this, &wanted, path, place = file_of(index)] { compare_content(wanted, path, place); });
  }

  void compare_content(const NewEntry& wanted, const std::string& path, std::size_t index) {
    ++progress_.entries;
    StreamPtr given = wanted.content->stream();  // is read first: what it throws tells which entry it is
    if (!same_bytes(*given, *after_->content(index)->stream(),
                    [this](std::uint64_t count) { progress_.bytes += count; }))
      differs(fmt::format("the new content of \"{}\" does not come out again", escape(path)));
  }

  const RebuildLayer& layer_;
  const PlannedLayer& plan_;
  bool quick_;
  Progress& progress_;
  ContainerPtr after_;
  std::unordered_map<std::string_view, std::size_t>
      places_;                                   // of entries in the result, where their order is its own
  std::vector<std::function<void()>> contents_;  // to be compared, on all processors
};

}  // namespace

std::uint64_t check_plan(const RebuildLayer& layer, const PlannedLayer& plan, bool quick,
                         OpenContext& context, Progress& progress) {
  return PlanCheck(layer, plan, quick, context, progress).run();
}

void check_written(const Source& written, const Assembly& plan, const Source& original, bool quick,
                   unsigned jobs, Progress& progress) {
  if (written.size() != plan.size())
    differs(fmt::format("{} bytes were to be written, {} were", plan.size(), written.size()));
  struct Part {
    SourcePtr source;
    std::uint64_t at, length, written_at;
  };
  std::vector<Part> parts;
  std::uint64_t at = 0;
  for (const Assembly::Run& run : plan.runs()) {
    for (std::uint64_t done = 0; done < run.length;) {
      SourceRun of = follow(*run.source, run.at + done, original);
      bool kept = quick && of.source == &original;
      std::uint64_t length = std::min(of.length, run.length - done);
      if (!kept) length = std::min(length, kPart);
      if (!kept) parts.push_back({run.source, run.at + done, length, at + done});
      done += length;
    }
    at += run.length;
  }
  for_each_of(parts.size(), jobs, [&](std::size_t i) {
    const Part& part = parts[i];
    if (!same_range(*part.source, part.at, written, part.written_at, part.length))
      differs(fmt::format("other bytes were read back than written, near offset {}", part.written_at));
    progress.bytes += part.length;
  });
}

}  // namespace operculum
