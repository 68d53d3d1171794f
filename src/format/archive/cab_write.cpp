#include "format/archive/cab_write.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>

#include "base/error.h"
#include "base/text.h"
#include "format/archive/cab_blocks.h"

namespace operculum::cab {
namespace {

constexpr std::uint64_t kMostFolder = 0x7FFF8000;  // plain bytes: 65,535 blocks
constexpr std::uint64_t kMostCabinet = UINT32_MAX;
constexpr std::size_t kMostFiles = UINT16_MAX, kLongestNewName = 255;
constexpr unsigned kUsualWindow = 21;  // bits, of LZX

/// What a folder is to hold, in order.
using Parts = std::vector<ContentPtr>;

/// The contents of a folder one after another; each opened when it is its turn.
class PartsStream final : public Stream {
 public:
  explicit PartsStream(const Parts& parts) : parts_(parts) {}
  std::size_t read(ByteSpan out) override {
    for (; next_ < parts_.size() || stream_; stream_.reset()) {
      if (!stream_) stream_ = parts_[next_++]->stream();
      if (std::size_t count = stream_->read(out)) return count;
    }
    return 0;
  }

 private:
  const Parts& parts_;
  std::size_t next_ = 0;
  StreamPtr stream_;
};

/// A folder of the new cabinet: kept as it lies, or packed.
struct NewFolder {
  FolderRecord record;
  Bytes reserve;  // behind its row
  Assembly blocks;
};

std::uint16_t method_for(const std::string& name) {
  constexpr std::pair<std::string_view, std::uint16_t> kNames[] = {{"stored", stored_codec},
                                                                   {"mszip", mszip_codec},
                                                                   {"deflate", mszip_codec},
                                                                   {"lzx", lzx_codec | kUsualWindow << 8}};
  for (auto [known, method] : kNames)
    if (known == name) return method;
  throw Unsupported(
      fmt::format("the method \"{}\" in a cabinet; there are stored, mszip and lzx", escape(name)));
}

/// What lies in front of the folders' rows, behind the fixed header.
struct Front {
  Header header;
  Bytes rest;
  std::size_t folder_reserve = 0;
};

std::string stored_name(const std::string& path, FileRecord& file) {
  std::string name = path;
  std::replace(name.begin(), name.end(), '/', '\\');
  bool fits = !name.empty() && name.size() <= kLongestNewName && name.find('\0') == std::string::npos;
  if (!fits)
    throw Unsupported(fmt::format("the path \"{}\" in a cabinet, where paths have up to {} bytes",
                                  escape(path), kLongestNewName));
  bool plain = std::all_of(name.begin(), name.end(), [](char c) { return (c & 0x80) == 0; });
  file.flags = static_cast<std::uint16_t>(plain ? file.flags & ~utf8_name : file.flags | utf8_name);
  return name;
}

FileRecord record_of(const NewEntry& entry) {
  FileRecord file;
  DosTime time = to_dos(entry.modified);
  file.date = time.date;
  file.time = time.time;
  file.flags = archive;
  if ((entry.mode & 0222) == 0) file.flags |= read_only;
  if ((entry.mode & 0111) != 0) file.flags |= execute;
  file.name = stored_name(entry.path, file);
  return file;
}

/// Puts the parts of a cabinet together.
class Writer {
 public:
  Writer(Front front, const BlockForm& form, const Writing& writing)
      : front_(std::move(front)), form_(form), writing_(writing) {}

  std::vector<NewFolder> folders;
  std::vector<FileRecord> files;  // their sizes, offsets and folders are those of the new cabinet

  /// New files, in as many folders as they need.
  void add_new(const std::vector<NewEntry>& entries) {
    Parts parts;
    std::uint64_t size = 0;
    for (const NewEntry& entry : entries) {
      if (entry.kind == EntryKind::folder) continue;  // there when something is in it
      if (entry.kind != EntryKind::file)
        throw Unsupported(fmt::format("\"{}\" in a cabinet, which holds files alone", escape(entry.path)));
      if (entry.size > kMostFolder)
        throw Unsupported(fmt::format("a file of more than 2 GiB in a cabinet (\"{}\")", escape(entry.path)));
      if (size + entry.size > kMostFolder) {
        add_packed(std::exchange(parts, {}), nullptr, {});
        size = 0;
      }
      FileRecord file = record_of(entry);
      file.folder = folder_number();
      file.offset = static_cast<std::uint32_t>(size);
      file.size = static_cast<std::uint32_t>(entry.size);
      files.push_back(std::move(file));
      parts.push_back(entry.content);
      size += entry.size;
    }
    if (!parts.empty()) add_packed(parts, nullptr, {});
  }

  void add_packed(const Parts& parts, const OldBlocks* old, const Bytes& reserve) {
    PartsStream plain(parts);
    PackedFolder packed = pack_folder(plain, form_, old, writing_.spool);
    NewFolder folder;
    folder.record.method = form_.method;
    folder.record.blocks = packed.blocks;
    folder.reserve = reserve;
    folder.blocks = std::move(packed.bytes);
    folders.push_back(std::move(folder));
  }

  std::uint16_t folder_number() const {
    if (folders.size() >= kMostFiles) throw Unsupported("a cabinet with more than 65,535 folders");
    return static_cast<std::uint16_t>(folders.size());
  }
  void use(const BlockForm& form) { form_ = form; }

  Assembly finish() {
    if (files.size() > kMostFiles) throw Unsupported("a cabinet with more than 65,535 files");
    Header& header = front_.header;
    header.folders = static_cast<std::uint16_t>(folders.size());
    header.files = static_cast<std::uint16_t>(files.size());
    std::uint64_t files_at =
        kHeader + front_.rest.size() + folders.size() * (kFolderRecord + front_.folder_reserve);
    std::uint64_t at = files_at;
    for (const FileRecord& file : files) at += kFileRecord + file.name.size() + 1;
    for (NewFolder& folder : folders) {
      folder.record.at = static_cast<std::uint32_t>(std::min(at, kMostCabinet));
      at += folder.blocks.size();
    }
    if (at > kMostCabinet) throw Unsupported("a cabinet of more than 4 GiB");
    header.size = static_cast<std::uint32_t>(at);
    header.files_at = static_cast<std::uint32_t>(files_at);
    Bytes tables;
    append_structure(tables, header);
    tables.insert(tables.end(), front_.rest.begin(), front_.rest.end());
    for (NewFolder& folder : folders) {
      append_structure(tables, folder.record);
      folder.reserve.resize(front_.folder_reserve);
      tables.insert(tables.end(), folder.reserve.begin(), folder.reserve.end());
    }
    for (const FileRecord& file : files) {
      append_structure(tables, file);
      ByteView name = as_bytes(file.name);
      tables.insert(tables.end(), name.begin(), name.end());
      tables.push_back(0);
    }
    Assembly out;
    out.add(std::move(tables));
    for (const NewFolder& folder : folders) out.add(folder.blocks);
    return out;
  }

 private:
  Front front_;
  BlockForm form_;
  const Writing& writing_;
};

class Rewriter {
 public:
  Rewriter(const OldCabinet& old, const Changes& changes, const Writing& writing)
      : old_(old),
        cabinet_(*old.cabinet),
        changes_(changes),
        writing_(writing),
        writer_(front(), {}, writing) {}

  Assembly run() {
    for (std::size_t i = 0; i < cabinet_.files.size(); ++i) by_folder_[cabinet_.files[i].folder].push_back(i);
    for (std::size_t i = 0; i < cabinet_.folders.size(); ++i) write_folder(i);
    for (auto& [index, file] : kept_) writer_.files.push_back(std::move(file));  // rows stay in their order
    std::uint16_t usual = mszip_codec;
    writer_.use(form_for(cabinet_.folders.empty() ? usual : cabinet_.folders.back().method));
    writer_.add_new(changes_.added);
    Assembly out = writer_.finish();
    add_what_is_behind(out);
    return out;
  }

 private:
  /// What is in front of the folders' rows, without a word of a signature: it would not fit any more.
  Front front() {
    Front out;
    Bytes raw = read_exactly(*cabinet_.bytes, 0, cabinet_.folders_at, "cabinet header");
    out.header = read_structure<Header>(raw.data());
    out.rest.assign(raw.begin() + kHeader, raw.end());
    out.folder_reserve = cabinet_.folder_reserve;
    if (is_signed()) {
      constexpr std::size_t kSizes = 4;  // of the reserved areas, in front of the header's
      std::fill_n(out.rest.begin() + kSizes, cabinet_.reserve.size(), Byte{0});
    }
    return out;
  }

  bool is_signed() const { return signature(cabinet_).length != 0; }

  /// A signature goes; anything else is kept.
  void add_what_is_behind(Assembly& out) const {
    std::uint64_t from = std::min<std::uint64_t>(cabinet_.stated_size, cabinet_.bytes->size());
    if (!is_signed()) return out.add(cabinet_.bytes, from, cabinet_.bytes->size() - from);
    writing_.note(cabinet_.name,
                  "the signature behind the cabinet does not fit what is in it any more, and was left out");
  }

  bool changes_in(const std::vector<std::size_t>& files) const {
    return std::any_of(files.begin(), files.end(), [&](std::size_t index) {
      return changes_.replaced.contains(index) || changes_.removed.contains(index);
    });
  }

  void write_folder(std::size_t number) {
    const FolderRecord& record = cabinet_.folders[number];
    std::vector<std::size_t> files = by_folder_[static_cast<std::uint16_t>(number)];
    std::uint16_t now = writer_.folder_number();
    if (!changes_in(files)) {
      for (std::size_t index : files)
        take(index, now, cabinet_.files[index].offset, cabinet_.files[index].size);
      keep(number);
      return;
    }
    std::stable_sort(files.begin(), files.end(), [&](std::size_t a, std::size_t b) {
      return cabinet_.files[a].offset < cabinet_.files[b].offset;
    });
    Parts parts;
    std::uint64_t size = 0;
    std::optional<std::size_t> before;  // the file in front, when it is kept: others may share its bytes
    std::string changed;
    for (std::size_t index : files) {
      if (changes_.removed.contains(index)) continue;
      auto replaced = changes_.replaced.find(index);
      const FileRecord& file = cabinet_.files[index];
      bool kept = replaced == changes_.replaced.end();
      bool shared = kept && before && cabinet_.files[*before].offset == file.offset &&
                    cabinet_.files[*before].size == file.size;
      std::uint64_t own = kept ? file.size : replaced->second.size;
      if (!kept) changed = old_.entries[index].path;
      if (!shared) {
        parts.push_back(kept ? old_.content(index) : replaced->second.content);
        size += own;
      }
      if (size > kMostFolder) throw Unsupported("a cabinet's folder of more than 2 GiB");
      take(index, now, size - own, own);
      before = kept ? std::optional(index) : std::nullopt;
    }
    if (parts.empty()) return;  // nothing is left of it
    OldBlocks blocks{cabinet_.bytes, record, [this, number] { return old_.open_folder(number); }};
    BlockForm form = form_for(record.method);
    bool same_method = form.method == record.method;
    if (same_method) seek_settings(form, blocks, changed);
    writer_.use(form);
    writer_.add_packed(parts, same_method ? &blocks : nullptr, reserve_of(number));
  }

  void seek_settings(BlockForm& form, const OldBlocks& blocks, const std::string& path) const {
    if (writing_.choice.level || !writing_.choice.seek_settings) return;
    try {
      if (auto found = find_form(blocks, form)) {
        form = *found;
      } else if (!path.empty()) {
        std::string how(method_name(form.method));
        if (form.method == mszip_codec) how += fmt::format(" at level {}", form.level);
        writing_.note(path, fmt::format("packed with {}; the original was made by another encoder", how));
      }
    } catch (const Malformed&) {
      return;  // what was there is damaged: that is why it is replaced
    }
  }

  BlockForm form_for(std::uint16_t method) const {
    BlockForm form;
    form.method = writing_.choice.method.empty() ? method : method_for(writing_.choice.method);
    form.level = writing_.choice.level.value_or(form.level);
    form.sums = sums();
    form.reserve = cabinet_.data_reserve;
    return form;
  }

  bool sums() const {
    if (cabinet_.folders.empty()) return true;
    Bytes first = read_up_to(*cabinet_.bytes, cabinet_.folders.front().at, kDataHeader);
    return first.size() < kDataHeader || read_structure<DataHeader>(first.data()).sum != 0;
  }

  void take(std::size_t index, std::uint16_t folder, std::uint64_t offset, std::uint64_t size) {
    FileRecord file = cabinet_.files[index];
    file.folder = folder;
    file.offset = static_cast<std::uint32_t>(offset);
    file.size = static_cast<std::uint32_t>(size);
    auto renamed = changes_.renamed.find(index);
    if (renamed != changes_.renamed.end()) file.name = stored_name(renamed->second, file);
    kept_.emplace(index, std::move(file));
  }

  void keep(std::size_t number) {
    NewFolder folder;
    folder.record = cabinet_.folders[number];
    folder.reserve = reserve_of(number);
    folder.blocks.add(cabinet_.bytes, folder.record.at, length_of(folder.record));
    writer_.folders.push_back(std::move(folder));
  }

  /// What the blocks of a folder take.
  std::uint64_t length_of(const FolderRecord& record) const {
    std::uint64_t at = record.at;
    for (std::size_t i = 0; i < record.blocks; ++i) {
      Bytes raw = read_exactly(*cabinet_.bytes, at, kDataHeader, "cabinet data block");
      at += kDataHeader + cabinet_.data_reserve + read_structure<DataHeader>(raw.data()).packed;
    }
    if (at > cabinet_.bytes->size()) throw CutShort("the cabinet ends within its data");
    return at - record.at;
  }

  Bytes reserve_of(std::size_t number) const {
    std::size_t at = cabinet_.folders_at + number * (kFolderRecord + cabinet_.folder_reserve) + kFolderRecord;
    return read_exactly(*cabinet_.bytes, at, cabinet_.folder_reserve, "cabinet folder record");
  }

  const OldCabinet& old_;
  const Cabinet& cabinet_;
  const Changes& changes_;
  const Writing& writing_;
  Writer writer_;
  std::map<std::uint16_t, std::vector<std::size_t>> by_folder_;
  std::map<std::size_t, FileRecord> kept_;  // by their numbers in the old cabinet
};

}  // namespace

Assembly rewrite(const OldCabinet& old, const Changes& changes, const Writing& writing) {
  return Rewriter(old, changes, writing).run();
}

Assembly pack(const std::vector<NewEntry>& entries, const Writing& writing) {
  BlockForm form;
  if (!writing.choice.method.empty()) form.method = method_for(writing.choice.method);
  form.level = writing.choice.level.value_or(form.level);
  Writer writer({}, form, writing);
  writer.add_new(entries);
  return writer.finish();
}

}  // namespace operculum::cab
