#pragma once

#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/bytes.h"
#include "base/time.h"
#include "io/descriptor.h"
#include "io/safe_path.h"

namespace operculum {

/// What to do when a path exists already.
enum class Existing {
  keep,     ///< leave what is there and write nothing
  replace,  ///< put the new file in its place, at once
  rename,   ///< write beside it under a numbered name
};

struct Owner {
  std::uint32_t user = 0, group = 0;  ///< numbers
};

/// What becomes of a finished file.
struct FileMetadata {
  std::uint32_t mode = 0644;  ///< permission bits
  Timestamp modified;
  std::optional<Owner> owner = {};
  std::vector<std::pair<std::string, std::string>> attributes = {};  ///< extended attributes
};

class OutputFolder;

/// A file that is being written under a temporary name in its folder. It gets its final name with commit(),
/// complete; without it, it vanishes.
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

  /// Gives the file its final name; returns the path beneath the output folder that it got, or nothing when
  /// something was there and is kept. Throws IoError.
  std::optional<std::string> commit(const FileMetadata& metadata, Existing existing);

  /// What commit() could not do of what was asked for, such as setting an attribute; empty when nothing.
  const std::string& complaint() const { return complaint_; }

  /// Adds to the final name, before commit().
  void add_ending(std::string_view ending) { name_ += ending; }

 private:
  friend class OutputFolder;
  OutputFile(std::shared_ptr<Descriptor> folder, std::string folder_path, std::string name);

  std::shared_ptr<Descriptor> folder_;
  std::string folder_path_, name_, temporary_;
  Descriptor file_;
  std::uint64_t hole_ = 0;  // zeros not yet written
  std::string complaint_;
};

/// The one way by which anything is written for the user. All paths are relative, already made safe
/// (safe_path.h), and resolved beneath the folder by the kernel (openat2, RESOLVE_BENEATH), whatever links
/// exist in it. Nothing that exists is replaced unless asked. Safe to share between threads.
class OutputFolder {
 public:
  /// Opens the folder, making it and its parents where they are missing. Throws IoError.
  explicit OutputFolder(std::string path);

  OutputFile begin_file(const std::string& path);
  /// Makes the folder and its parents; true when it was new.
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
  void remove_folder_if_empty(const std::string& path);
  const std::string& path() const { return path_; }

 private:
  std::shared_ptr<Descriptor> open_parent(const std::string& path, std::string& name);
  std::shared_ptr<Descriptor> open_folder(const std::string& path, bool make);

  std::string path_;
  Descriptor root_;
  std::mutex mutex_;  // guards the folder opened last
  std::string last_path_;
  std::shared_ptr<Descriptor> last_;
};

}  // namespace operculum
