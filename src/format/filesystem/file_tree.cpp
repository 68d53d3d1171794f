#include "format/filesystem/file_tree.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "base/text.h"
#include "base/units.h"
#include "codec/codec.h"

namespace operculum {
namespace {

constexpr std::size_t kMaxLevels = 1000;  // folders in each other

struct HashRef {
  std::size_t operator()(const NodeRef& ref) const {
    return std::hash<std::uint64_t>{}(ref.a * 0x9E3779B97F4A7C15ULL ^ ref.b);
  }
};

struct Pending {
  std::string path;  // of a folder to be listed, with a slash at its end; empty for the root
  NodeRef ref;
  std::size_t level;
};

/// The data of a file, known to be whole: what an image cut short lacks is told at its end.
class WholeContent final : public Content {
 public:
  WholeContent(ContentPtr inner, std::uint64_t size) : inner_(std::move(inner)), size_(size) {}
  StreamPtr stream() const override { return make_checked(inner_->stream(), {size_, std::nullopt}); }
  SourcePtr source() const override { return inner_->source(); }

 private:
  ContentPtr inner_;
  std::uint64_t size_;
};

ContentPtr whole(ContentPtr content, const Entry& entry) {
  return entry.size_known() ? std::make_shared<WholeContent>(std::move(content), entry.size) : content;
}

/// A name as a part of a path: a slash in it would make it look like several.
bool fix_name(std::string& name) {
  if (name.empty() || name == "." || name == "..") {
    name = name.empty() ? "_" : name + "_";
    return true;
  }
  if (name.find('/') == std::string::npos) return false;
  std::replace(name.begin(), name.end(), '/', '_');
  return true;
}

}  // namespace

void FileTree::walk_tree(Detail detail, const TreeSink& sink) {
  std::unordered_set<NodeRef, HashRef> seen = {root()};
  std::unordered_map<std::uint64_t, std::string> linked;
  std::vector<Pending> pending = {{"", root(), 0}};
  while (!pending.empty()) {
    Pending folder = std::move(pending.back());
    pending.pop_back();
    std::size_t below = pending.size();
    try {
      list(folder.ref, detail, [&](TreeItem&& item) {
        limits_.count_entry();
        if (fix_name(item.entry.path)) {
          add_finding(Finding::Level::warning,
                      fmt::format("{}: holds a name that no system allows; shown as \"{}\"",
                                  folder.path.empty() ? "the root folder" : escape(folder.path),
                                  escape(item.entry.path)));
        }
        if (!folder.path.empty()) item.entry.path.insert(0, folder.path);
        if (item.link_id != 0 && item.entry.kind == EntryKind::file) {
          auto [first, is_new] = linked.try_emplace(item.link_id, item.entry.path);
          if (is_new) limits_.count_retained(item.entry.path.size());
          if (!is_new) {
            item.entry.kind = EntryKind::hard_link;
            item.entry.extras().link_target = first->second;
          }
        }
        if (item.entry.kind == EntryKind::folder) {
          if (!seen.insert(item.ref).second) {
            add_finding(Finding::Level::fault,
                        fmt::format("{}: leads back to a folder listed already; not entered",
                                    escape(item.entry.path)));
          } else if (folder.level + 1 >= kMaxLevels) {
            add_finding(Finding::Level::fault,
                        fmt::format("folders lie more than {} levels deep; not entered", kMaxLevels));
          } else if (!item.entry.is(Entry::damaged)) {
            limits_.count_retained(item.entry.path.size() + sizeof(Pending));
            pending.push_back({item.entry.path + "/", item.ref, folder.level + 1});
          }
        }
        sink(std::move(item));
      });
    } catch (const LimitExceeded&) {
      throw;
    } catch (const std::exception& thrown) {
      Error error = as_error(thrown);
      if (error.kind() == ErrorKind::io) throw;
      std::string name =
          folder.path.empty() ? "the root folder" : escape(folder.path.substr(0, folder.path.size() - 1));
      add_finding(Finding::Level::fault, fmt::format("{}: {}", name, error.what()));
    }
    std::reverse(pending.begin() + static_cast<std::ptrdiff_t>(below), pending.end());
  }
}

std::span<const Entry> FileTree::entries() {
  std::call_once(listed_, [this] {
    walk_tree(Detail::all, [this](TreeItem&& item) {
      limits_.count_retained(memory_of(item.entry));
      refs_.push_back(item.ref);
      entries_.push_back(std::move(item.entry));
    });
  });
  return entries_;
}

void FileTree::each(Detail detail, const std::function<void(const Entry&)>& visitor) {
  walk_tree(detail, [&](TreeItem&& item) { visitor(item.entry); });
}

ContentPtr FileTree::content(std::size_t index) {
  const Entry& entry = entries()[index];
  return whole(open(entry, refs_[index]), entry);
}

/// Goes down folder by folder, and lists only those on the way.
Lookup FileTree::find(std::string_view path) {
  Lookup result;
  NodeRef folder = root();
  std::string so_far;
  std::size_t at = 0;
  while (at < path.size()) {
    std::size_t end = std::min(path.find('/', at), path.size());
    std::string_view wanted = path.substr(at, end - at);
    std::optional<TreeItem> found;
    auto take = [&](TreeItem&& item) {
      fix_name(item.entry.path);
      bool exact = item.entry.path == wanted;
      if (exact || (!found && same_name(item.entry.path, wanted)))
        found = std::move(item);
      else if (result.similar.empty() && to_lower(item.entry.path) == to_lower(wanted))
        result.similar = so_far + item.entry.path;
    };
    auto fits = [&](std::string name) {
      fix_name(name);
      return name == wanted || same_name(name, wanted);
    };
    try {
      list(folder, Detail::all, {take, fits});  // names first: of one of them alone the rest is read
    } catch (const std::exception&) {
      if (!found) throw;  // it came before the damage
    }
    if (!found) return result;
    at = std::min(end + 1, path.size());
    found->entry.path.insert(0, so_far);
    if (found->entry.kind == EntryKind::folder) {
      so_far = found->entry.path + "/";
      folder = found->ref;
      if (end == path.size()) {
        result.kind = Lookup::Kind::folder;
        result.path = found->entry.path;
      }
      continue;
    }
    result.kind = Lookup::Kind::entry;
    result.consumed = end;
    auto entry = std::make_shared<const Entry>(std::move(found->entry));
    result.entry = entry;
    result.open = [self = shared_from_this(), this, entry, ref = found->ref] {
      return whole(open(*entry, ref), *entry);
    };
    return result;
  }
  return result;
}

void FileTree::add_damaged(TreeItem&& item, const std::string& what, const TreeSink& sink) {
  add_finding(Finding::Level::fault, fmt::format("\"{}\": {}", escape(item.entry.path), what));
  item.entry.flags |= Entry::damaged;
  sink(std::move(item));
}

void compare_sizes(Container& container, std::uint64_t image, std::uint64_t file_system) {
  if (image < file_system) {
    container.add_finding(Finding::Level::fault,
                          fmt::format("the image is cut short: its file system covers {} bytes, {} are there",
                                      grouped(file_system), grouped(image)));
  } else if (image > file_system) {
    container.add_finding(Finding::Level::note,
                          fmt::format("{} bytes follow the file system", grouped(image - file_system)));
  }
}

std::string size_fact(std::uint64_t bytes) {
  return fmt::format("{} ({} bytes)", human_size(bytes), grouped(bytes));
}

std::string uuid_text(ByteView bytes) {
  std::string digits = to_hex(bytes.first(16));
  for (std::size_t at : {20, 16, 12, 8}) digits.insert(at, "-");
  return digits;
}

std::string guid_text(ByteView bytes) {
  Bytes ordered(bytes.begin(), bytes.begin() + 16);
  std::reverse(ordered.begin(), ordered.begin() + 4);
  std::reverse(ordered.begin() + 4, ordered.begin() + 6);
  std::reverse(ordered.begin() + 6, ordered.begin() + 8);
  return uuid_text(ordered);
}

}  // namespace operculum
