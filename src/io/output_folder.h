#pragma once

#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <unordered_set>
#include <utility>
#include <vector>

#include "base/bytes.h"
#include "base/facts.h"
#include "base/time.h"
#include "io/descriptor.h"
#include "io/safe_path.h"
#include "io/source.h"

namespace operculum {

/// What to do when a path exists already.
enum class Existing {
  keep,     ///< leave what is there and write nothing
  replace,  ///< put the new file in its place, at once
  rename,   ///< write beside it under a numbered name
};

/// Whom a file is to belong to.
struct Owner {
  std::uint32_t user = 0, group = 0;  ///< numbers
};

/// What becomes of a finished file.
struct FileMetadata {
  std::uint32_t mode = 0644;  ///< permission bits
  Timestamp modified;
  std::optional<Owner> owner = {};
  ExtendedAttributes attributes = {};  ///< extended attributes
};

class OutputFolder;

/// A file that is being written. It gets its final name with commit(), complete; without it, it vanishes.
/// Until then it has none, where the file system knows files without names, else a hidden one.
class OutputFile {
 public:
  OutputFile(OutputFile&&) noexcept;
  OutputFile& operator=(OutputFile&&) = delete;
  ~OutputFile();

  void write(ByteView bytes);
  /// Like write, but whole blocks of zeros become holes.
  void write_sparse(ByteView bytes);
  /// Zeros that take no space.
  void write_hole(std::uint64_t length) { hole_ += length; }

  /// Adds bytes of another open file, copied within the kernel where it can (copy_file_range, which shares
  /// the blocks on file systems that know how). Returns how many were copied; 0 where the kernel does not.
  std::uint64_t copy_from(int file, std::uint64_t at, std::uint64_t length);

  /// What was written so far, for reading it again before it gets its name. Throws IoError.
  SourcePtr written();

  /// Before commit(): the bytes are on the disk before the name is, and the name when commit() returns.
  void make_durable() { durable_ = true; }

  /// Gives the file its final name; returns the path beneath the output folder that it got, or nothing when
  /// something was there and is kept. Throws IoError.
  std::optional<std::string> commit(const FileMetadata& metadata, Existing existing);

  /// Before commit(): what a replacing one puts out of the way stays beside the file, under a name of its
  /// own.
  void keep_replaced() { keep_replaced_ = true; }
  /// The same, and what is put out of the way gets the name that is given, or a numbered form of it.
  void keep_replaced_as(std::string name) {
    keep_replaced_ = true;
    kept_name_ = std::move(name);
  }
  /// The name that what was there got, beneath the output folder; empty when nothing was replaced or kept.
  const std::string& replaced() const { return replaced_; }

  /// What commit() could not do of what was asked for, such as setting an attribute; empty when nothing.
  const std::string& complaint() const { return complaint_; }

  /// Adds to the final name, before commit().
  void add_ending(std::string_view ending) { name_ += ending; }

 private:
  friend class OutputFolder;
  OutputFile(OutputFolder& owner, std::shared_ptr<Descriptor> folder, std::string folder_path,
             std::string name);

  std::shared_ptr<Descriptor> folder_;
  std::string folder_path_, name_, temporary_;
  Descriptor file_;
  std::uint64_t hole_ = 0;  // zeros not yet written
  void place_hole();
  void give_temporary_name();
  std::string name_replaced() const;
  bool second_name(const std::string& name);
  bool link_as(const std::string& name) const;
  bool take_name(const std::string& name) const;
  void replace();

  bool keep_replaced_ = false;
  bool durable_ = false;
  std::string kept_name_;  // for what is replaced; empty: a hidden one
  std::string complaint_, replaced_;
};

/// The one way by which anything is written for the user. All paths are relative, already made safe
/// (safe_path.h), and resolved beneath the folder by the kernel (openat2, RESOLVE_BENEATH), whatever links
/// exist in it. Nothing that exists is replaced unless asked. Safe to share between threads.
class OutputFolder {
 public:
  enum class Must {
    be_there,  ///< nothing is made
    exist,     ///< it is made, with its parents, where it is missing
    be_new,    ///< it is made here and now, under a numbered name where there is one of its name
  };
  /// Opens the folder; from then on it is this one, whatever becomes of its name. Throws IoError.
  explicit OutputFolder(std::string path, Must must = Must::exist);

  bool made() const { return made_root_; }  ///< it was not there before
  /// What the constructor made: this folder and those above it, the outermost first.
  const std::vector<std::string>& made_folders() const { return made_folders_; }
  /// Removes what the constructor made, as far as it is empty.
  void take_back_if_empty();

  OutputFile begin_file(const std::string& path);
  /// Makes the folder and its parents; true when this object made it, now or before.
  bool make_folder(const std::string& path);
  /// False when something is there already.
  bool make_symbolic_link(const std::string& path, const std::string& target, const Timestamp& modified,
                          const std::optional<Owner>& owner = std::nullopt);
  /// A second name for a file beneath this folder; false when something is there already.
  bool make_hard_link(const std::string& path, const std::string& target);
  bool make_node(const std::string& path, std::uint32_t mode_and_type, std::uint64_t device);

  bool exists(const std::string& path) const;  ///< of anything, links not followed
  void finish_folder(const std::string& path,
                     const FileMetadata& metadata);  ///< last, for its time changes with its entries
  void remove_file(const std::string& path);         ///< a file or link made here
  /// Gives a file another name, when nothing has that; false when something has. Throws IoError.
  bool rename_file(const std::string& path, const std::string& new_path);
  /// What a link says; nothing where there is none.
  std::optional<std::string> link_target(const std::string& path) const;
  /// Opens a plain file for reading; nothing where there is none. Links are not followed.
  Descriptor open_file(const std::string& path) const;
  void remove_folder_if_empty(const std::string& path);
  const std::string& path() const { return path_; }

 private:
  friend class OutputFile;
  /// Whether this is the first file with a temporary name there.
  bool first_named_in(const std::string& path);
  std::shared_ptr<Descriptor> open_parent(const std::string& path, std::string& name);
  std::shared_ptr<Descriptor> open_folder(const std::string& path, bool make);

  std::string path_;
  Descriptor root_;
  bool made_root_ = false;
  std::vector<std::string> made_folders_;
  std::mutex mutex_;  // guards what follows
  std::string last_path_;
  std::shared_ptr<Descriptor> last_;
  std::unordered_set<std::string> made_;      // folders that were not there before
  std::unordered_set<std::string> named_in_;  // folders where files had temporary names
};

}  // namespace operculum
