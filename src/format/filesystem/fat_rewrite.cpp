#include "format/filesystem/fat_rewrite.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/error.h"
#include "base/text.h"
#include "format/filesystem/fat_clusters.h"
#include "format/filesystem/fat_folder.h"

namespace operculum::fat {
namespace {

constexpr std::uint64_t kLargestFile = UINT32_MAX;
constexpr std::size_t kParentRow = kRowSize;  // of a folder's own two rows, the one that leads up

/// The rows of a folder while they are changed.
struct Folder {
  std::vector<std::uint32_t> clusters;  ///< none of the fixed root folder
  Bytes rows;
  std::vector<FolderItem> items;                              ///< as they were at first
  std::unordered_multimap<std::string, std::size_t> item_of;  ///< by name
  std::unordered_map<std::string, std::size_t> row_of;  ///< the places of rows by name; from the first that
                                                        ///< is replaced on, after which rows are only put in
  std::optional<TakenNames> names;                      ///< once something is put in
  std::size_t free_from = 0;                            ///< no row in front of it is free
  bool cleared = false;                                 ///< behind the last row are zeros
  bool changed = false, gone = false;
};

/// A row that is to get another place.
struct Moved {
  TreeNode* parent;
  std::string name;
  TreeNode* node;
  Row row;
};

class Rewriter {
 public:
  Rewriter(const OldVolume& volume, const OldEntries& old, SpoolBudget& budget)
      : volume_(volume),
        boot_(volume.boot),
        old_(old),
        budget_(budget),
        clusters_(volume.source, volume.boot),
        patches_(volume.source) {
    for (std::size_t i = 0; i < old.all.size(); ++i) by_path_[old.all[i].path] = i;
  }

  Assembly run(const std::set<std::size_t>& removed, TreeNode& root) {
    root_ = &root;
    gather_moved(root);
    for (auto index = removed.rbegin(); index != removed.rend(); ++index) remove(*index);  // folders last
    cluster_of_[&root] = boot_.root_cluster;
    for (Moved& one : moved_) insert_later_[one.parent].push_back(&one);
    work_through(root);
    for (auto& [cluster, folder] : folders_) write(cluster, folder);
    clusters_.write(patches_);
    return patches_.assembly(volume_.source->size());
  }

 private:
  // ---- folders as they are

  Folder& folder_at(std::uint32_t cluster) {
    auto [found, is_new] = folders_.try_emplace(cluster);
    Folder& folder = found->second;
    if (!is_new) return folder;
    if (cluster == 0) {
      folder.rows = read_exactly(*volume_.source, boot_.root_at, boot_.root_size, "FAT root folder");
    } else {
      folder.clusters = clusters_.chain(cluster);
      if (folder.clusters.size() * clusters_.size() > kMostRows * kRowSize)
        throw Malformed(fmt::format("the folder at cluster {} is longer than a folder can be", cluster));
      for (std::uint32_t one : folder.clusters) {
        Bytes part = read_exactly(*volume_.source, clusters_.place(one), clusters_.size(), "FAT folder");
        folder.rows.insert(folder.rows.end(), part.begin(), part.end());
      }
    }
    FolderReader reader;
    for (std::size_t at = 0; at + kRowSize <= folder.rows.size() && folder.rows[at] != kEnd; at += kRowSize) {
      auto item = reader.take(ByteView(folder.rows).subspan(at, kRowSize), at);
      if (!item || item->deleted) continue;
      folder.item_of.emplace(name_of(*item), folder.items.size());
      folder.items.push_back(*std::move(item));
    }
    return folder;
  }

  std::string name_of(const FolderItem& item) const {
    if (item.long_name) return *item.long_name;
    return short_name_text(item.raw_name(), item.row.cases, item.deleted, volume_.encoding);
  }

  /// Where an entry's parent folder is: nothing for the root folder.
  std::optional<std::size_t> old_parent(std::size_t index) const {
    const std::string& path = old_.all[index].path;
    std::size_t slash = path.rfind('/');
    if (slash == std::string::npos) return std::nullopt;
    return by_path_.at(std::string_view(path).substr(0, slash));
  }

  std::pair<Folder*, const FolderItem*> find(std::size_t index) {
    auto parent = old_parent(index);
    Folder& folder = folder_at(parent ? old_.cluster(*parent) : boot_.root_cluster);
    auto [begin, end] = folder.item_of.equal_range(std::string(base_name(old_.all[index].path)));
    for (auto one = begin; one != end; ++one) {
      const FolderItem& item = folder.items[one->second];
      if (item.cluster(boot_.geometry.bits) == old_.cluster(index)) return {&folder, &item};
    }
    throw Malformed(fmt::format("the row of \"{}\" was not found again", escape(old_.all[index].path)));
  }

  // ---- what goes

  void erase(Folder& folder, const FolderItem& item) {
    for (std::uint64_t at = item.first_at; at <= item.at; at += kRowSize)
      folder.rows[static_cast<std::size_t>(at)] = kDeleted;
    folder.changed = true;
  }

  void remove(std::size_t index) {
    auto [folder, item] = find(index);
    erase(*folder, *item);
    std::uint32_t first = old_.cluster(index);
    if (old_.all[index].kind == EntryKind::folder) folder_at(first).gone = true;
    if (first != 0) clusters_.free_chain(first);
  }

  /// Entries that lie in another folder now, or have another name: their rows are taken out before any is put
  /// in.
  void gather_moved(TreeNode& folder) {
    for (auto& [name, node] : folder.children) {
      if (node->old) {
        const std::string& path = old_.all[*node->old].path;
        auto parent = old_parent(*node->old);
        bool same_parent = parent ? folder.old == parent : &folder == root_;
        if (base_name(path) != name || !same_parent) {
          auto [old_folder, item] = find(*node->old);
          moved_.push_back({&folder, name, node.get(), item->row});
          erase(*old_folder, *item);
        }
      }
      gather_moved(*node);
    }
  }

  // ---- what comes

  void work_through(TreeNode& parent) {
    std::uint32_t cluster = cluster_of_.at(&parent);
    if (auto later = insert_later_.find(&parent); later != insert_later_.end()) {
      for (Moved* one : later->second) move_in(cluster, *one);
    }
    for (auto& [name, node] : parent.children) {
      if (!node->old) {
        add(cluster, name, *node);
      } else if (node->kind == EntryKind::folder) {
        cluster_of_[node.get()] = old_.cluster(*node->old);
      } else if (node->content) {
        replace(cluster, name, *node);
      }
      if (node->kind == EntryKind::folder) work_through(*node);
    }
  }

  void move_in(std::uint32_t cluster, const Moved& one) {
    insert(cluster, one.name, one.row);
    if (one.node->kind != EntryKind::folder) return;
    Folder& itself = folder_at(old_.cluster(*one.node->old));
    if (itself.rows.size() < 2 * kRowSize) return;
    auto up = read_structure<Row>(itself.rows.data() + kParentRow);
    up.set_cluster(as_parent(cluster));
    write_structure(up, itself.rows.data() + kParentRow);
    itself.changed = true;
  }

  /// The root folder is meant by 0, wherever it lies.
  std::uint32_t as_parent(std::uint32_t cluster) const { return cluster == boot_.root_cluster ? 0 : cluster; }

  /// Puts rows into a folder, where there is room for all of them; a folder that has none grows.
  void insert(std::uint32_t cluster, const std::string& name, const Row& row) {
    Folder& folder = folder_at(cluster);
    if (!folder.names) note_names(folder);
    Bytes rows = folder.names->rows_of(name, row);
    std::size_t at = room_for(folder, rows.size());
    std::copy(rows.begin(), rows.end(), folder.rows.begin() + static_cast<std::ptrdiff_t>(at));
    folder.changed = true;
  }

  /// Of all rows that stay; no row goes once the first is put in.
  void note_names(Folder& folder) const {
    folder.names.emplace();
    FolderReader reader;
    for (std::size_t at = 0; at < folder.rows.size() && folder.rows[at] != kEnd; at += kRowSize) {
      auto item = reader.take(ByteView(folder.rows).subspan(at, kRowSize), at);
      if (item && !item->deleted) folder.names->add(name_of(*item), item->raw_name());
    }
  }

  static bool is_free(const Folder& folder, std::size_t at) {
    return folder.rows[at] == kDeleted || folder.rows[at] == kEnd;
  }

  std::size_t room_for(Folder& folder, std::size_t length) {
    while (folder.free_from < folder.rows.size() && !is_free(folder, folder.free_from))
      folder.free_from += kRowSize;
    std::size_t begin = folder.free_from, at = begin;
    for (; at < folder.rows.size() && at - begin < length; at += kRowSize) {
      if (folder.rows[at] == kEnd && !folder.cleared) {  // all behind it is free, whatever stands there
        std::fill(folder.rows.begin() + static_cast<std::ptrdiff_t>(at), folder.rows.end(), kEnd);
        folder.cleared = true;
      }
      if (!is_free(folder, at)) begin = at + kRowSize;
    }
    if (at < begin + length) grow(folder, begin + length);
    return begin;
  }

  void grow(Folder& folder, std::size_t rows_size) {
    if (folder.clusters.empty())
      throw Unsupported(
          fmt::format("more than {} rows in the root folder of this FAT volume", boot_.root_size / kRowSize));
    if (rows_size > kMostRows * kRowSize)
      throw Unsupported("more than 65,536 rows in a folder of a FAT volume");
    std::uint64_t count = (rows_size + clusters_.size() - 1) / clusters_.size();
    folder.clusters = clusters_.resize(std::move(folder.clusters), count);
    folder.rows.resize(static_cast<std::size_t>(count * clusters_.size()));
  }

  void add(std::uint32_t parent, const std::string& name, TreeNode& node) {
    Row row;
    DosTime time = to_dos(node.modified);
    row.date = row.created_date = row.accessed_date = time.date;
    row.time = row.created_time = time.time;
    if ((node.mode & 0222) == 0) row.attributes |= read_only;
    if (node.kind == EntryKind::folder) {
      row.attributes |= folder_row;
      std::uint32_t cluster = clusters_.resize({}, 1).front();
      cluster_of_[&node] = cluster;
      row.set_cluster(cluster);
      insert(parent, name, row);
      make_folder(cluster, parent, row);
      return;
    }
    if (node.kind != EntryKind::file || node.same_as != nullptr)
      throw Unsupported(fmt::format("the {} \"{}\" on a FAT volume, which has files and folders alone",
                                    node.same_as != nullptr ? "hard link" : operculum::name_of(node.kind),
                                    escape(name)));
    row.attributes |= archive;
    put_content(row, {}, name, node);
    insert(parent, name, row);
  }

  void make_folder(std::uint32_t cluster, std::uint32_t parent, const Row& row) {
    Folder& folder = folders_[cluster];
    folder.clusters = {cluster};
    folder.changed = true;
    for (auto [dots, leads_to] : {std::pair{".", cluster}, {"..", as_parent(parent)}}) {
      Row own = row;
      own.attributes = folder_row;
      std::string letters = fmt::format("{:<11}", dots);
      std::copy_n(letters.begin(), own.name.size(), own.name.begin());
      own.set_cluster(leads_to);
      append_structure(folder.rows, own);
    }
    folder.rows.resize(static_cast<std::size_t>(clusters_.size()));
  }

  /// The row keeps its place, its name and its times.
  void replace(std::uint32_t parent, const std::string& name, const TreeNode& node) {
    Folder& folder = folder_at(parent);
    if (folder.row_of.empty()) note_rows(folder);
    auto found = folder.row_of.find(name);
    if (found == folder.row_of.end())
      throw Malformed(fmt::format("the row of \"{}\" was not found again", escape(name)));
    Byte* at = folder.rows.data() + found->second;
    auto row = read_structure<Row>(at);
    std::uint32_t first = row.cluster(boot_.geometry.bits);
    put_content(row, first == 0 ? std::vector<std::uint32_t>{} : clusters_.chain(first), name, node);
    write_structure(row, at);
    folder.changed = true;
  }

  void note_rows(Folder& folder) const {
    FolderReader reader;
    for (std::size_t at = 0; at < folder.rows.size() && folder.rows[at] != kEnd; at += kRowSize) {
      auto item = reader.take(ByteView(folder.rows).subspan(at, kRowSize), at);
      if (item && !item->deleted) folder.row_of.emplace(name_of(*item), at);
    }
  }

  void put_content(Row& row, std::vector<std::uint32_t> chain, const std::string& name,
                   const TreeNode& node) {
    SourcePtr content = random_access(*node.content, budget_);
    std::uint64_t size = content->size();
    if (size > kLargestFile)
      throw Unsupported(fmt::format("\"{}\" with {} bytes on a FAT volume, where a file has less than 4 GiB",
                                    escape(name), size));
    std::uint64_t count = (size + clusters_.size() - 1) / clusters_.size();
    chain = clusters_.resize(std::move(chain), count);
    row.size = static_cast<std::uint32_t>(size);
    row.set_cluster(chain.empty() ? 0 : chain.front());
    for (std::size_t i = 0; i < chain.size(); ++i) {
      std::uint64_t from = i * clusters_.size(), length = std::min(clusters_.size(), size - from);
      std::uint64_t at = clusters_.place(chain[i]);
      patches_.put(at, content, from, length);
      patches_.put_zeros(at + length, clusters_.size() - length);
    }
  }

  void write(std::uint32_t cluster, const Folder& folder) {
    if (!folder.changed || folder.gone) return;
    if (cluster == 0) return patches_.put(boot_.root_at, folder.rows);
    for (std::size_t i = 0; i < folder.clusters.size(); ++i) {
      auto size = static_cast<std::size_t>(clusters_.size());
      patches_.put(clusters_.place(folder.clusters[i]), ByteView(folder.rows).subspan(i * size, size));
    }
  }

  const OldVolume& volume_;
  const Boot& boot_;
  const OldEntries& old_;
  SpoolBudget& budget_;
  const TreeNode* root_ = nullptr;
  Clusters clusters_;
  Patches patches_;
  std::unordered_map<std::string_view, std::size_t> by_path_;
  std::map<std::uint32_t, Folder> folders_;  // by first cluster; 0: the fixed root folder
  std::vector<Moved> moved_;
  std::unordered_map<const TreeNode*, std::vector<Moved*>> insert_later_;
  std::unordered_map<const TreeNode*, std::uint32_t> cluster_of_;
};

}  // namespace

Assembly rewrite(const OldVolume& volume, const OldEntries& old, const std::set<std::size_t>& removed,
                 TreeNode& root, SpoolBudget& budget) {
  return Rewriter(volume, old, budget).run(removed, root);
}

}  // namespace operculum::fat
