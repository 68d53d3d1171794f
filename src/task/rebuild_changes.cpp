#include "task/rebuild_changes.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <unordered_map>
#include <unordered_set>

#include "base/error.h"
#include "base/text.h"
#include "io/compare.h"
#include "io/file_source.h"
#include "io/safe_path.h"
#include "task/folder_entries.h"

namespace operculum {
namespace {

bool is_folder(const std::string& file) {
  struct stat status {};
  return stat(file.c_str(), &status) == 0 && S_ISDIR(status.st_mode);
}

class Work {
 public:
  Work(const RebuildRequest& request, Container& container, const std::string& inside)
      : request_(request), container_(container), entries_(container.entries()) {
    if (!inside.empty()) front_ = inside + "/";
    for (std::size_t i = 0; i < entries_.size(); ++i) by_path_[entries_[i].path] = i;  // the last one counts
  }

  WishedChanges run() {
    if (!request_.from.empty()) take_folder();
    for (const Wish& wish : request_.wishes) grant(wish);
    guard_links();
    out_.kept = entries_.size() - out_.changes.removed.size() - touched_.size();
    return std::move(out_);
  }

 private:
  void grant(const Wish& wish) {
    std::string path = as_stored(front_ + clean_path(wish.path));
    switch (wish.kind) {
      case Wish::Kind::set:
        return set(find(path), from_disk(wish.with, path));
      case Wish::Kind::add:
        return add_all(wish.with, path);
      case Wish::Kind::remove:
        return remove_all(path);
      case Wish::Kind::rename:
        return rename_all(path, front_ + clean_path(wish.with));
    }
  }

  /// A path as it is printed, with escapes, names an entry, too.
  std::string as_stored(const std::string& path) const {
    if (by_path_.contains(path)) return path;
    auto plain = unescape(path);
    return plain && by_path_.contains(*plain) ? *plain : path;
  }

  /// A link on disk stands for what it leads to.
  static NewEntry from_disk(const std::string& file, const std::string& path) {
    struct stat status {};
    if (stat(file.c_str(), &status) == 0 && S_ISREG(status.st_mode)) {
      NewEntry entry = entry_from_disk(file, path);
      if (entry.kind == EntryKind::file) return entry;
      entry.kind = EntryKind::file;
      entry.size = static_cast<std::uint64_t>(status.st_size);
      entry.mode = status.st_mode & 07777;
      entry.content = make_content([file] { return make_source_stream(open_file(file)); });
      return entry;
    }
    if (is_folder(file)) {
      throw Malformed(fmt::format("{} is a folder; --from takes what differs in a folder, --add puts one in",
                                  escape(file)));
    }
    return entry_from_disk(file, path);
  }

  std::size_t find(const std::string& path) const {
    auto found = by_path_.find(path);
    if (found != by_path_.end()) return found->second;
    if (has_beneath(path))
      throw Malformed(
          fmt::format("\"{}\" is a folder of the container, so a file cannot be its content", escape(path)));
    std::string hint = "; --add puts a new one in";
    std::string wanted = to_lower(base_name(path));
    for (const Entry& entry : entries_) {
      if (to_lower(base_name(entry.path)) == wanted)
        hint = fmt::format("; did you mean \"{}\"?", escape(entry.path));
    }
    throw Malformed(fmt::format("there is no entry \"{}\"{}", escape(path), hint));
  }

  bool has_beneath(const std::string& path) const {
    return std::any_of(entries_.begin(), entries_.end(),
                       [&](const Entry& entry) { return entry.path.starts_with(path + "/"); });
  }

  void set(std::size_t index, NewEntry content) {
    const Entry& old = entries_[index];
    bool as_file = old.kind == EntryKind::file && content.kind == EntryKind::file;
    bool as_link = old.kind == EntryKind::symbolic_link && content.kind == EntryKind::symbolic_link;
    if (old.kind == EntryKind::hard_link) {
      throw Malformed(fmt::format("\"{}\" is another name of \"{}\"; set that one", escape(old.path),
                                  escape(old.link_target())));
    }
    if (!as_file && !as_link) {
      throw Malformed(fmt::format("\"{}\" is a {} and would become a {}; remove it and add the new one",
                                  escape(old.path), name_of(old.kind), name_of(content.kind)));
    }
    Fate fate{Fate::Kind::changed, old.path, "", old.size, content.size, {}};
    if (as_link) fate.new_size = content.link_target.size();
    content.path = old.path;
    if (!out_.changes.replaced.emplace(index, std::move(content)).second)
      throw Malformed(fmt::format("\"{}\" is set twice", escape(old.path)));
    touched_.insert(index);
    out_.fates.push_back(std::move(fate));
  }

  void add_all(const std::string& file, const std::string& path) {
    if (!is_folder(file)) return add(from_disk(file, path));
    NewEntry folder = entry_from_disk(file, path);
    folder.kind = EntryKind::folder;
    if (!by_path_.contains(path) && !has_beneath(path)) add(std::move(folder));
    for (NewEntry& entry : entries_from_folder(file, path + "/")) add(std::move(entry));
  }

  void add(NewEntry entry) {
    if (by_path_.contains(entry.path) || !added_.insert(entry.path).second)
      throw Malformed(
          fmt::format("\"{}\" is there already; --set gives it a new content", escape(entry.path)));
    out_.fates.push_back({Fate::Kind::added, entry.path, "", Entry::kUnknownSize, entry.size, {}});
    out_.changes.added.push_back(std::move(entry));
  }

  std::vector<std::size_t> all_beneath(const std::string& path) const {
    std::vector<std::size_t> found;
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      if (entries_[i].path == path || entries_[i].path.starts_with(path + "/")) found.push_back(i);
    }
    if (found.empty()) find(path);  // which says why
    return found;
  }

  void remove(std::size_t index) {
    if (!out_.changes.removed.insert(index).second) return;
    out_.fates.push_back(
        {Fate::Kind::removed, entries_[index].path, "", entries_[index].size, Entry::kUnknownSize, {}});
  }

  void remove_all(const std::string& path) {
    for (std::size_t index : all_beneath(path)) remove(index);
  }

  void rename_all(const std::string& path, const std::string& to) {
    for (std::size_t index : all_beneath(path)) {
      std::string renamed = to + entries_[index].path.substr(path.size());
      if (by_path_.contains(renamed) || !added_.insert(renamed).second)
        throw Malformed(fmt::format("\"{}\" is there already; remove it first", escape(renamed)));
      out_.changes.renamed[index] = renamed;
      touched_.insert(index);
      out_.fates.push_back({Fate::Kind::renamed,
                            entries_[index].path,
                            renamed,
                            entries_[index].size,
                            entries_[index].size,
                            {}});
    }
  }

  /// A folder of the same shape, as unpacking made it: names are compared in the form that they get there.
  void take_folder() {
    std::unordered_map<std::string, std::size_t> by_name;
    std::unordered_map<std::string, unsigned> met;
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      if (!entries_[i].path.starts_with(front_)) continue;
      std::string name = make_safe(entries_[i].path.substr(front_.size()), NameRules::here).path;
      unsigned number = ++met[name];
      by_name[number == 1 ? name : numbered(name, number)] = i;
    }
    std::unordered_set<std::size_t> there;
    if (std::error_code none; std::filesystem::is_regular_file(request_.from, none))
      throw Malformed(fmt::format("{} is a file; --from takes a folder, and --set PATH=FILE a file",
                                  escape(request_.from)));
    for (NewEntry& entry : entries_from_folder(request_.from, "")) {
      auto found = by_name.find(entry.path);
      if (found == by_name.end()) {
        bool known_folder = entry.kind == EntryKind::folder && has_beneath(front_ + entry.path);
        entry.path = front_ + entry.path;
        if (!known_folder) add(std::move(entry));
        continue;
      }
      there.insert(found->second);
      if (differs(found->second, entry)) {
        set(found->second, std::move(entry));
      } else if (request_.only_changed && entries_[found->second].kind != EntryKind::folder) {
        remove(found->second);
      }
    }
    if (request_.alone) remove_outside();
    if (!request_.mirror) return;
    for (const auto& [name, index] : by_name) {
      bool folder_in_use =
          entries_[index].kind == EntryKind::folder && has_kept_beneath(entries_[index].path, there);
      if (!there.contains(index) && !folder_in_use) remove(index);
    }
    std::sort(out_.fates.begin(), out_.fates.end(),
              [](const Fate& a, const Fate& b) { return a.path < b.path; });
  }

  /// All but what lies in the folder, and the folders above it.
  void remove_outside() {
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      const std::string& path = entries_[i].path;
      if (!path.starts_with(front_) && !front_.starts_with(path + "/")) remove(i);
    }
  }

  bool has_kept_beneath(const std::string& path, const std::unordered_set<std::size_t>& there) const {
    return std::any_of(there.begin(), there.end(), [&](std::size_t index) {
      return entries_[index].path.starts_with(path + "/") && !out_.changes.removed.contains(index);
    });
  }

  bool differs(std::size_t index, const NewEntry& entry) const {
    const Entry& old = entries_[index];
    if (old.kind == EntryKind::hard_link || entry.kind == EntryKind::folder) return false;
    if (entry.kind == EntryKind::symbolic_link)
      return old.kind == EntryKind::symbolic_link ? entry.link_target != old.link_target() : false;
    if (old.kind != EntryKind::file) return true;
    if (old.size_known() && old.size != entry.size) return true;
    try {
      return !same_bytes(*container_.content(index)->stream(), *entry.content->stream());
    } catch (const Malformed&) {
      return true;  // what cannot be read is another content
    }
  }

  /// Hard links would lead nowhere without the entry that has their data.
  void guard_links() const {
    std::unordered_set<std::string_view> gone;
    for (std::size_t index : out_.changes.removed) gone.insert(entries_[index].path);
    for (const auto& [index, path] : out_.changes.renamed) gone.insert(entries_[index].path);
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      if (entries_[i].kind != EntryKind::hard_link || out_.changes.removed.contains(i)) continue;
      if (gone.contains(entries_[i].link_target())) {
        throw Unsupported(
            fmt::format("taking \"{}\" away, which has the data of \"{}\"; remove or rename both",
                        escape(entries_[i].link_target()), escape(entries_[i].path)));
      }
    }
  }

  const RebuildRequest& request_;
  Container& container_;
  std::span<const Entry> entries_;
  std::string front_;
  std::unordered_map<std::string_view, std::size_t> by_path_;
  std::unordered_set<std::string> added_;
  std::unordered_set<std::size_t> touched_;
  WishedChanges out_;
};

}  // namespace

WishedChanges work_out(const RebuildRequest& request, Container& container, const std::string& inside) {
  return Work(request, container, inside).run();
}

}  // namespace operculum
