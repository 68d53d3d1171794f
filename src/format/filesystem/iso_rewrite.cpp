#include "format/filesystem/iso_rewrite.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "base/error.h"
#include "base/structure.h"
#include "base/text.h"
#include "format/filesystem/iso_fields.h"
#include "format/filesystem/iso_rows.h"
#include "io/patches.h"

namespace operculum::iso {
namespace {

std::uint64_t sectors(std::uint64_t bytes) {
  return (bytes + kSector - 1) / kSector;
}

class Rewriter {
 public:
  Rewriter(OldDisc& disc, std::span<const Entry> entries, SpoolBudget& budget)
      : disc_(disc),
        entries_(entries),
        budget_(budget),
        patches_(disc.image),
        shown_(disc.shown, disc.reader, !disc.shown.ridge),
        next_(sectors(disc.image->size())) {
    if (disc.other) other_.emplace(*disc.other, disc.reader, false);
  }

  Assembly run(TreeNode& root) {
    if (disc_.other) pair_trees(disc_.shown.root, disc_.other->root);
    take_apart();
    assign(root, disc_.shown.root, disc_.other ? &disc_.other->root : nullptr);
    std::uint64_t end_before = next_;
    each_tree(
        [this](DiscTree& tree) { each_folder(tree.root, [this](DiscFolder& one) { place_folder(one); }); });
    each_tree([this](DiscTree& tree) { place_continuations(tree); });
    place_contents();
    each_tree([this](DiscTree& tree) { write_tree(tree); });
    bool longer = next_ > end_before;
    if (longer)
      each_tree([this](DiscTree& tree) {
        put_field(tree, &VolumeDescriptor::space_size, static_cast<std::uint32_t>(next_));
      });
    return patches_.assembly(longer ? next_ * kSector : disc_.image->size());
  }

 private:
  template <typename Visit>
  void each_tree(Visit visit) {
    visit(disc_.shown);
    if (disc_.other) visit(*disc_.other);
  }

  // ---- what comes into which folder

  /// Rows leave their folders, to be put together again.
  void take_apart() {
    std::unordered_map<std::string_view, std::size_t> numbers;
    for (std::size_t i = 0; i < entries_.size(); ++i) numbers.emplace(entries_[i].path, i);
    note_rows(disc_.shown.root, "", numbers);
    each_tree([this](DiscTree& tree) {
      each_folder(tree.root, [this](DiscFolder& folder) {
        std::vector<DiscRow*>& rows = rows_before_[&folder];
        for (auto& row : folder.rows) rows.push_back(row.get());
      });
    });
    for (auto& [folder, rows] : rows_before_) {
      for (auto& row : folder->rows) add_to_pool(std::move(row));
      folder->rows.clear();
    }
  }

  void note_rows(DiscFolder& folder, const std::string& front,
                 const std::unordered_map<std::string_view, std::size_t>& numbers) {
    for (auto& row : folder.rows) {
      std::string path = front + row->name;
      auto found = numbers.find(path);
      if (found != numbers.end()) rows_[found->second] = row.get();
      if (!row->folder && row->size > 0) ++users_[row->first.extent];
      if (row->folder) note_rows(*row->folder, path + "/", numbers);
    }
  }

  DiscRow& row_of(const TreeNode& node) const {
    auto found = rows_.find(*node.old);
    if (found == rows_.end())
      throw Unsupported(
          fmt::format("writing a disc on which \"{}\" is met twice", escape(entries_[*node.old].path)));
    return *found->second;
  }

  bool is_boot_folder(const TreeNode& node) const {
    return node.old && !disc_.boot_images.empty() && !rows_.contains(*node.old);
  }

  void assign(TreeNode& folder, DiscFolder& shown, DiscFolder* other) {
    std::vector<DiscRow*> wanted, twins;
    std::set<Bytes> taken, taken_twins;
    std::vector<std::pair<const std::string*, TreeNode*>> new_names;
    std::set<DiscRow*> before(rows_before_[&shown].begin(), rows_before_[&shown].end());
    for (auto& [name, node] : folder.children) {
      if (is_boot_folder(*node)) continue;
      DiscRow* row = node->old ? &row_of(*node) : nullptr;
      if (row == nullptr || row->name != name || !before.contains(row)) {
        new_names.emplace_back(&name, node.get());
        continue;
      }
      place(*row, *node, wanted, taken, twins, taken_twins);
    }
    if (other != nullptr) {
      for (DiscRow* row : rows_before_[other]) {  // what the shown tree does not have
        if (row->twin == nullptr) keep(*row, twins, taken_twins);
      }
    }
    for (auto [name, node] : new_names) {
      DiscRow& row = named_anew(*name, *node, taken, taken_twins);
      place(row, *node, wanted, taken, twins, taken_twins);
    }
    put_together(shown, wanted, shown_.form());
    if (other != nullptr) put_together(*other, twins, other_->form());
    for (auto& [name, node] : folder.children) {
      if (node->kind != EntryKind::folder || is_boot_folder(*node)) continue;
      DiscRow& row = *placed_.at(node.get());
      assign(*node, *row.folder, row.twin != nullptr ? row.twin->folder.get() : nullptr);
    }
  }

  static void keep(DiscRow& row, std::vector<DiscRow*>& wanted, std::set<Bytes>& taken) {
    wanted.push_back(&row);
    taken.insert(row.first.raw_name);
  }

  void place(DiscRow& row, const TreeNode& node, std::vector<DiscRow*>& wanted, std::set<Bytes>& taken,
             std::vector<DiscRow*>& twins, std::set<Bytes>& taken_twins) {
    row.node = &node;
    placed_[&node] = &row;
    keep(row, wanted, taken);
    if (row.twin == nullptr) return;
    row.twin->node = &node;
    keep(*row.twin, twins, taken_twins);
  }

  DiscRow& named_anew(const std::string& name, const TreeNode& node, const std::set<Bytes>& taken,
                      const std::set<Bytes>& taken_twins) {
    if (node.old) {
      DiscRow& row = row_of(node);
      shown_.rename(row, name, node, taken);
      renamed_.insert(&row);
      if (row.twin == nullptr) return row;
      other_->rename(*row.twin, name, node, taken_twins);
      renamed_.insert(row.twin);
      return row;
    }
    DiscRow& row = add_to_pool(shown_.make(name, node, taken));
    bool in_other = other_ && (node.kind == EntryKind::file || node.kind == EntryKind::folder);
    if (!in_other) return row;
    row.twin = &add_to_pool(other_->make(name, node, taken_twins));
    row.twin->twin = &row;
    return row;
  }

  DiscRow& add_to_pool(std::unique_ptr<DiscRow> row) {
    DiscRow& made = *row;
    pool_[&made] = std::move(row);
    return made;
  }

  /// In the order that they had where the same ones are in it as before, else sorted.
  void put_together(DiscFolder& folder, std::vector<DiscRow*>& rows, NameForm form) {
    const std::vector<DiscRow*>& before = rows_before_[&folder];
    std::set<DiscRow*> now(rows.begin(), rows.end());
    bool same = now.size() == before.size() && std::all_of(before.begin(), before.end(), [&](DiscRow* one) {
                  return now.contains(one) && !renamed_.contains(one);
                });
    if (same) {
      rows = before;
    } else {
      folder.changed = true;
      std::stable_sort(rows.begin(), rows.end(), [&](const DiscRow* a, const DiscRow* b) {
        return comes_before(a->identifier(), b->identifier(), form);
      });
    }
    for (DiscRow* row : rows) {
      folder.rows.push_back(std::move(pool_.at(row)));
      if (row->folder) row->folder->above = &folder;
    }
  }

  // ---- where everything lies

  std::uint64_t take_sectors(std::uint64_t count) {
    std::uint64_t at = next_;
    next_ += count;
    if (next_ > UINT32_MAX) throw Unsupported("an ISO 9660 disc of more than 8 TiB");
    return at;
  }

  void place_folder(DiscFolder& folder) {
    for (auto& row : folder.rows) {  // the number of records may change with the content
      if (row->node != nullptr && row->node->kind == EntryKind::file) prepare_content(*row, folder);
    }
    std::uint64_t length = length_of(folder);
    if (folder.extent != 0 && length <= folder.size) return;
    folder.size = sectors(length) * kSector;
    folder.extent = take_sectors(folder.size / kSector);
    folder.changed = true;
  }

  /// What is put into a file; `extent` is known when it stays where it was.
  struct NewContent {
    SourcePtr bytes;
    std::uint64_t size = 0, extent = 0;
  };

  static const TreeNode& file_of(const TreeNode& node) {
    return node.same_as != nullptr ? *node.same_as : node;
  }

  void prepare_content(DiscRow& row, DiscFolder& folder) {
    const TreeNode& file = file_of(*row.node);
    if (!file.content) return;
    auto [found, is_new] = contents_.try_emplace(&file);
    NewContent& content = found->second;
    if (is_new) {
      in_order_.push_back(&content);
      content.bytes = random_access(*file.content, budget_);
      content.size = content.bytes->size();
      if (file.old) content.extent = old_place(row_of(file), content.size, file.names);
    }
    bool in_shown = &row == placed_.at(row.node);
    if (file.old) (in_shown ? shown_ : *other_).as_plain_content(row);
    folder.changed |= lead_to(row, parts_at(content.extent, content.size)) || row.first.ridge.zisofs ||
                      row.first.ridge.virtual_size.has_value();
  }

  /// Where a content that is replaced lay, when the new one has room there and nobody else's is.
  std::uint64_t old_place(const DiscRow& row, std::uint64_t size, std::uint32_t names) const {
    for (const BootImage& boot : disc_.boot_images) {
      if (boot.at / kSector == row.first.extent)
        throw Unsupported(
            fmt::format("changing \"{}\", which the disc's boot catalog leads to, too", escape(row.name)));
    }
    auto users = users_.find(row.first.extent);
    bool alone = users != users_.end() && users->second <= names;
    return alone && row.records.size() == 1 && sectors(size) <= sectors(row.size) ? row.first.extent : 0;
  }

  /// None crosses the end of a sector.
  void place_continuations(DiscTree& tree) {
    std::uint64_t sector = 0;
    std::size_t used = kSector;
    each_folder(tree.root, [&](DiscFolder& folder) {
      for (auto& row : folder.rows) {
        std::size_t size = row->continuation.size();
        if (size == 0) continue;
        if (kSector - used < size) {
          sector = take_sectors(1);
          used = 0;
          patches_.put(sector * kSector, Bytes(kSector));
        }
        patches_.put(sector * kSector + used, row->continuation);
        for (Bytes& record : row->records) {
          Continuation more{static_cast<std::uint32_t>(sector), static_cast<std::uint32_t>(used),
                            static_cast<std::uint32_t>(size)};
          write_structure(more, record.data() + row->continuation_at);
        }
        used += size;
      }
    });
  }

  void place_contents() {
    for (NewContent* content : in_order_) {
      if (content->size == 0) continue;
      std::uint64_t room = sectors(content->size);
      if (content->extent == 0) content->extent = take_sectors(room);
      patches_.put(content->extent * kSector, content->bytes, 0, content->size);
      patches_.put_zeros(content->extent * kSector + content->size, room * kSector - content->size);
    }
    each_tree([this](DiscTree& tree) {
      each_folder(tree.root, [this](DiscFolder& folder) {
        for (auto& row : folder.rows) lead_to_content(*row);
      });
    });
  }

  void lead_to_content(DiscRow& row) {
    if (row.node == nullptr || row.node->kind != EntryKind::file) return;
    const TreeNode& file = file_of(*row.node);
    auto content = contents_.find(&file);
    if (content != contents_.end()) {
      lead_to(row, parts_at(content->second.extent, content->second.size));
    } else if (file.old && !row.node->old) {  // a new name of a file that stays
      lead_to(row, parts_of(row_of(file)));
    }
  }

  // ---- writing

  /// One field of a tree's volume descriptor; all others stay as they are.
  template <typename Member>
  void put_field(const DiscTree& tree, Member VolumeDescriptor::*member, const Member& value) {
    patches_.put(tree.descriptor_at + place_of(member).at, written_field(member, value));
  }

  /// The same of the root folder's record in it.
  void put_root_field(const DiscTree& tree, std::uint32_t FolderRecord::*member, std::uint64_t value) {
    std::uint64_t at = tree.descriptor_at + place_of(&VolumeDescriptor::root).at + place_of(member).at;
    patches_.put(at, written_field(member, static_cast<std::uint32_t>(value)));
  }

  static void lead_to_folder(Bytes& record, const DiscFolder& folder) {
    set_place(record.data(), folder.extent, folder.size);
  }

  void write_tree(DiscTree& tree) {
    each_folder(tree.root, [&](DiscFolder& folder) {
      lead_to_folder(folder.self, folder);
      lead_to_folder(folder.parent, folder.above != nullptr ? *folder.above : folder);
      for (auto& row : folder.rows) {
        if (row->folder) lead_to_folder(row->records.front(), *row->folder);
      }
    });
    each_folder(tree.root, [this](DiscFolder& folder) { write_folder(folder); });
    put_root_field(tree, &FolderRecord::extent, tree.root.extent);
    put_root_field(tree, &FolderRecord::data_length, tree.root.size);
    write_path_tables(tree);
  }

  /// What is written must not lie where the volume descriptors are. Only that of damaged discs does.
  void check_place(std::uint64_t sector, std::string_view what) const {
    std::uint64_t last = std::max(disc_.shown.descriptor_at, disc_.other ? disc_.other->descriptor_at : 0);
    if (sector * kSector <= last)
      throw Malformed(
          fmt::format("ISO 9660: {} at sector {}, where the volume descriptors lie", what, sector));
  }

  void write_folder(DiscFolder& folder) {
    std::uint64_t begin = folder.extent * kSector;
    check_place(folder.extent, "a folder");
    if (folder.changed) return patches_.put(begin, bytes_of(folder));
    Bytes before = read_exactly(*disc_.image, begin, folder.size, "ISO 9660 folder"), after = before;
    auto put = [&](std::uint64_t at, const Bytes& record) {
      if (at > after.size() || record.size() > after.size() - at)
        throw Malformed(fmt::format("ISO 9660 folder at offset {}: a record lies outside of it", begin));
      std::copy(record.begin(), record.end(), after.begin() + static_cast<std::ptrdiff_t>(at));
    };
    put(0, folder.self);
    put(folder.self.size(), folder.parent);
    for (const auto& row : folder.rows) {
      for (std::size_t i = 0; i < row->records.size(); ++i) put(row->at[i] - begin, row->records[i]);
    }
    if (after != before) patches_.put(begin, after);
  }

  /// Tables stay at their places where they have room there.
  void write_path_tables(DiscTree& tree) {
    auto old = read_structure<VolumeDescriptor>(
        read_exactly(*disc_.image, tree.descriptor_at, kSector, "ISO 9660 volume descriptor").data());
    Bytes little = path_table_of(tree, false), big = path_table_of(tree, true);
    bool stays = sectors(little.size()) <= sectors(old.path_table_size);
    auto place = [&](std::uint64_t at, const Bytes& table, bool copy) -> std::uint32_t {
      if (copy && (at == 0 || !stays)) return 0;
      if (!stays || at == 0) at = take_sectors(sectors(table.size()));
      check_place(at, "a path table");
      Bytes padded = table;
      padded.resize(static_cast<std::size_t>(sectors(table.size()) * kSector));
      patches_.put(at * kSector, padded);
      return static_cast<std::uint32_t>(at);
    };
    auto big_place = [&](const std::array<Byte, 4>& at, bool copy) {
      std::array<Byte, 4> out{};
      store_number(out.data(), out.size(),
                   place(load_number(at.data(), at.size(), std::endian::big), big, copy), std::endian::big);
      return out;
    };
    using D = VolumeDescriptor;
    put_field(tree, &D::path_table, place(old.path_table, little, false));
    put_field(tree, &D::path_table_copy, place(old.path_table_copy, little, true));
    put_field(tree, &D::big_path_table, big_place(old.big_path_table, false));
    put_field(tree, &D::big_path_table_copy, big_place(old.big_path_table_copy, true));
    put_field(tree, &D::path_table_size, static_cast<std::uint32_t>(little.size()));
  }

  OldDisc& disc_;
  std::span<const Entry> entries_;
  SpoolBudget& budget_;
  Patches patches_;
  RowMaker shown_;
  std::optional<RowMaker> other_;
  std::uint64_t next_;                                                  // the first sector that nothing has
  std::unordered_map<std::size_t, DiscRow*> rows_;                      // of the shown tree, by entry
  std::unordered_map<std::uint64_t, std::uint32_t> users_;              // of data, by its extent
  std::unordered_map<DiscFolder*, std::vector<DiscRow*>> rows_before_;  // by folder
  std::unordered_map<DiscRow*, std::unique_ptr<DiscRow>> pool_;         // rows that are in no folder
  std::unordered_map<const TreeNode*, DiscRow*> placed_;                // in the shown tree
  std::set<const DiscRow*> renamed_;
  std::unordered_map<const TreeNode*, NewContent> contents_;
  std::vector<NewContent*> in_order_;
};

}  // namespace

Assembly rewrite(OldDisc& disc, std::span<const Entry> entries, TreeNode& root, SpoolBudget& budget) {
  return Rewriter(disc, entries, budget).run(root);
}

}  // namespace operculum::iso
