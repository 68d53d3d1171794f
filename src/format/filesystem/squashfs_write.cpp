#include "format/filesystem/squashfs_write.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/cursor.h"
#include "base/error.h"
#include "base/numbers.h"
#include "base/text.h"
#include "format/filesystem/device_number.h"
#include "format/filesystem/squashfs_tables.h"

namespace operculum::squash {
namespace {

constexpr std::uint64_t kPadding = 4096;   // images fill up to a multiple of it
constexpr std::size_t kLongestName = 256;  // bytes
constexpr std::uint32_t kEmptyFolder = 3;  // what the size of a folder counts beside its rows
constexpr std::uint64_t kMostRows = 0x7fffffff;

/// What of an inode others need: where it lies, and what it is.
struct Written {
  std::uint64_t reference = 0;
  std::uint32_t number = 0;
  std::uint16_t type = 0;  // the short form, as folders name it
};

std::uint16_t type_of(EntryKind kind) {
  static constexpr std::pair<EntryKind, Type> kTypes[] = {
      {EntryKind::folder, Type::folder},
      {EntryKind::file, Type::file},
      {EntryKind::symbolic_link, Type::link},
      {EntryKind::block_device, Type::block_device},
      {EntryKind::character_device, Type::character_device},
      {EntryKind::fifo, Type::fifo},
      {EntryKind::socket, Type::socket}};
  return std::find_if(std::begin(kTypes), std::end(kTypes), [&](auto& one) { return one.first == kind; })
      ->second;
}

std::uint32_t time_of(const Timestamp& time) {
  if (!time.known()) return 0;
  return static_cast<std::uint32_t>(std::clamp<std::int64_t>(time.seconds, 0, UINT32_MAX));
}

class TableWriter {
 public:
  TableWriter(const Form& form, TreeNode& root, const StoredFiles& files)
      : form_(form),
        root_(root),
        files_(files),
        inodes_(form, inodes_stored),
        folders_(form, inodes_stored),
        attributes_(form) {}

  void run() {
    number_all(root_);
    written_[&root_].number = ++count_;
    write_folder(root_, count_ + 1, written_.at(&root_));
  }

  /// Everything behind the data, which ends at `base`; fills the places of `super` in.
  Bytes tables(std::uint64_t base, const std::vector<FragmentRecord>& fragments, Super& super) {
    Bytes out;
    auto add_plain = [&](MetaWriter& table) {
      std::uint64_t at = base + out.size();
      Bytes bytes = table.finish();
      out.insert(out.end(), bytes.begin(), bytes.end());
      return at;
    };
    super.inodes = count_;
    super.root = written_.at(&root_).reference;
    super.inode_table = add_plain(inodes_);
    super.folder_table = add_plain(folders_);
    super.fragments = static_cast<std::uint32_t>(fragments.size());
    super.fragment_table = super.lookup_table = super.attribute_table = kNoTable;
    if (!fragments.empty()) {
      MetaWriter table(form_, inodes_stored);
      for (const FragmentRecord& one : fragments) table.add(one);
      super.fragment_table = add_table(out, base, table);
    }
    if (form_.has(exportable)) super.lookup_table = add_lookup(out, base);
    MetaWriter owners(form_, ids_stored);
    for (std::uint32_t id : owners_.all()) add_number(owners, id, 4);
    super.ids = static_cast<std::uint16_t>(owners_.all().size());
    super.id_table = add_table(out, base, owners);
    if (!attributes_.empty()) super.attribute_table = attributes_.add_to(out, base, form_);
    super.bytes_used = base + out.size();
    return out;
  }

 private:
  static void add_number(MetaWriter& to, std::uint64_t value, std::size_t width) {
    Byte raw[8];
    store_number(raw, width, value);
    to.add(ByteView(raw, width));
  }

  static const TreeNode& file_of(const TreeNode& node) {
    return node.same_as != nullptr ? *node.same_as : node;
  }

  /// Folders in front of what is in them; another name has its file's number.
  void number_all(TreeNode& folder) {
    for (auto& [name, child] : folder.children) {
      Written& written = written_[&file_of(*child)];
      if (written.number == 0) written.number = ++count_;
      number_all(*child);
    }
  }

  void write(TreeNode& node, std::uint32_t parent) {
    Written& written = written_.at(&file_of(node));
    if (written.type != 0) return;  // another name of it came in front
    if (node.kind == EntryKind::folder) return write_folder(node, parent, written);
    const TreeNode& one = file_of(node);
    written.type = type_of(one.kind);
    written.reference = inodes_.reference();
    std::uint32_t attributes = attributes_.number(one.extra.attributes);
    bool plain = attributes == kNoAttributes;
    if (one.kind == EntryKind::file) return write_file(one, attributes, written);
    add_head(one, written, plain);
    if (one.kind == EntryKind::symbolic_link) {
      inodes_.add(LinkInode{1, static_cast<std::uint32_t>(one.link_target.size())});
      inodes_.add(as_bytes(one.link_target));
    } else if (one.kind == EntryKind::block_device || one.kind == EntryKind::character_device) {
      inodes_.add(DeviceInode{1, device_number(one.extra)});
    } else {
      add_number(inodes_, 1, 4);  // its names
    }
    if (!plain) add_number(inodes_, attributes, 4);
  }

  void add_head(const TreeNode& node, const Written& written, bool is_short) {
    constexpr std::uint16_t kToLong = long_folder - folder;
    InodeHead head;
    head.type = static_cast<std::uint16_t>(written.type + (is_short ? 0 : kToLong));
    head.mode = static_cast<std::uint16_t>(node.mode & 07777);
    head.uid = owners_.number(node.extra.user_id);
    head.gid = owners_.number(node.extra.group_id);
    head.time = time_of(node.modified);
    head.number = written.number;
    inodes_.add(head);
  }

  void write_file(const TreeNode& node, std::uint32_t attributes, const Written& written) {
    static const StoredFile kEmpty;
    auto found = files_.find(&node);
    const StoredFile& file = found == files_.end() ? kEmpty : found->second;
    bool is_short = attributes == kNoAttributes && node.names == 1 && file.sparse == 0 &&
                    file.start <= UINT32_MAX && file.size <= UINT32_MAX;
    add_head(node, written, is_short);
    if (is_short) {
      inodes_.add(FileInode{static_cast<std::uint32_t>(file.start), file.fragment, file.offset,
                            static_cast<std::uint32_t>(file.size)});
    } else {
      // A file that is nothing but holes still has a byte that is none, as the kernel counts it.
      std::uint64_t sparse = file.sparse > 0 && file.sparse == file.size ? file.sparse - 1 : file.sparse;
      inodes_.add(
          LongFileInode{file.start, file.size, sparse, node.names, file.fragment, file.offset, attributes});
    }
    for (std::uint32_t word : file.sizes) add_number(inodes_, word, 4);
  }

  /// The rows of a folder, and an index of where heads lie for large ones.
  struct Rows {
    std::uint64_t start = 0, offset = 0, size = 0;
    std::vector<std::pair<FolderIndex, std::string>> index;
  };

  Rows write_rows(const TreeNode& folder) {
    Rows rows;
    rows.start = folders_.block();
    rows.offset = folders_.offset();
    std::uint64_t indexed_block = rows.start;
    for (auto next = folder.children.begin(); next != folder.children.end();) {
      const Written& first = written_.at(&file_of(*next->second));
      FolderHead head{0, static_cast<std::uint32_t>(first.reference >> 16), first.number};
      auto end = next;
      std::uint64_t length = size_on_disk<FolderHead>;
      for (std::uint32_t count = 0; end != folder.children.end() && count < kMostRowsAHead; ++end, ++count) {
        const Written& one = written_.at(&file_of(*end->second));
        std::int64_t difference = std::int64_t{one.number} - first.number;
        bool fits = one.reference >> 16 == head.start && difference >= INT16_MIN && difference <= INT16_MAX;
        bool crosses = count > 0 && folders_.offset() + length >= kMetaBlock;
        if (!fits || crosses) break;
        length += size_on_disk<FolderRow> + end->first.size();
        head.count = count;
      }
      if (folders_.block() != indexed_block) {
        indexed_block = folders_.block();
        rows.index.push_back(
            {{static_cast<std::uint32_t>(rows.size), static_cast<std::uint32_t>(indexed_block),
              static_cast<std::uint32_t>(next->first.size() - 1)},
             next->first});
      }
      folders_.add(head);
      rows.size += size_on_disk<FolderHead>;
      for (; next != end; ++next) rows.size += write_row(next->first, *next->second, head);
    }
    if (rows.size > kMostRows) throw Unsupported("a folder with so many entries in a SquashFS image");
    return rows;
  }

  std::uint64_t write_row(const std::string& name, const TreeNode& node, const FolderHead& head) {
    if (name.size() > kLongestName)
      throw Unsupported(
          fmt::format("a name of {} bytes in a SquashFS image: \"{}\"", name.size(), escape(name)));
    const Written& one = written_.at(&file_of(node));
    folders_.add(FolderRow{static_cast<std::uint16_t>(one.reference),
                           static_cast<std::uint16_t>(one.number - head.number), one.type,
                           static_cast<std::uint16_t>(name.size() - 1)});
    folders_.add(as_bytes(name));
    return size_on_disk<FolderRow> + name.size();
  }

  void write_folder(TreeNode& node, std::uint32_t parent, Written& written) {
    for (auto& [name, child] : node.children) write(*child, written.number);
    Rows rows = write_rows(node);
    auto links = static_cast<std::uint32_t>(
        2 + std::count_if(node.children.begin(), node.children.end(),
                          [](auto& one) { return one.second->kind == EntryKind::folder; }));
    written.type = Type::folder;
    written.reference = inodes_.reference();
    std::uint32_t attributes = attributes_.number(node.extra.attributes);
    std::uint64_t size = rows.size + kEmptyFolder;
    bool is_short = attributes == kNoAttributes && rows.index.empty() && size <= UINT16_MAX;
    add_head(node, written, is_short);
    auto start = static_cast<std::uint32_t>(rows.start);
    auto offset = static_cast<std::uint16_t>(rows.offset);
    if (is_short) {
      inodes_.add(FolderInode{start, links, static_cast<std::uint16_t>(size), offset, parent});
      return;
    }
    inodes_.add(LongFolderInode{links, static_cast<std::uint32_t>(size), start, parent,
                                static_cast<std::uint16_t>(rows.index.size()), offset, attributes});
    for (const auto& [one, name] : rows.index) {
      inodes_.add(one);
      inodes_.add(as_bytes(name));
    }
  }

  std::uint64_t add_lookup(Bytes& out, std::uint64_t base) {
    std::vector<std::uint64_t> references(count_);
    for (const auto& [node, written] : written_) references[written.number - 1] = written.reference;
    MetaWriter table(form_, inodes_stored);
    for (std::uint64_t one : references) add_number(table, one, 8);
    return add_table(out, base, table);
  }

  const Form& form_;
  TreeNode& root_;
  const StoredFiles& files_;
  MetaWriter inodes_, folders_;
  OwnerTable owners_;
  AttributeTable attributes_;
  std::unordered_map<const TreeNode*, Written> written_;
  std::uint32_t count_ = 0;
};

}  // namespace

std::uint64_t data_begin(const Form& form) {
  return kSuperSize + (form.options.empty() ? 0 : 2 + form.options.size());
}

Assembly whole_image(const Form& form, TreeNode& root, const StoredFiles& files, const Assembly& data,
                     const std::vector<FragmentRecord>& fragments) {
  Super super = form.super;
  TableWriter writer(form, root, files);
  writer.run();
  Bytes tables = writer.tables(data_begin(form) + data.size(), fragments, super);
  Bytes front;
  append_structure(front, super);
  if (!form.options.empty()) {
    auto word = static_cast<std::uint16_t>(form.options.size() | kMetaStored);
    front.push_back(static_cast<Byte>(word));
    front.push_back(static_cast<Byte>(word >> 8));
    front.insert(front.end(), form.options.begin(), form.options.end());
  }
  Assembly out;
  out.add(std::move(front));
  out.add(data);
  out.add(std::move(tables));
  out.add_zeros((kPadding - out.size() % kPadding) % kPadding);
  return out;
}

}  // namespace operculum::squash
