#pragma once

#include <concepts>
#include <functional>
#include <mutex>

#include "container/format.h"

namespace operculum {

/// What finds a thing in its file system again: an inode number, or a place. What the two numbers mean is the
/// file system's own.
struct NodeRef {
  std::uint64_t a = 0, b = 0;
  bool operator==(const NodeRef&) const = default;
};

/// Something in a folder.
struct TreeItem {
  Entry entry;                ///< its path is only the name
  NodeRef ref;                ///< of what it is
  std::uint64_t link_id = 0;  ///< not 0: items with the same number are one file under several names
};

/// Takes what is in a folder.
class TreeSink {
 public:
  template <typename Take>
  requires(!std::same_as<Take, TreeSink>) TreeSink(Take take)
      : take_(std::move(take)) {}  // NOLINT: whatever can be called is a sink
  /// Of items whose names `only` is false for, the name alone is of interest.
  TreeSink(std::function<void(TreeItem&&)> take, std::function<bool(const std::string&)> only)
      : take_(std::move(take)), only_(std::move(only)) {}

  void operator()(TreeItem&& item) const { take_(std::move(item)); }
  bool wants_all_of(const std::string& name) const { return !only_ || only_(name); }

 private:
  std::function<void(TreeItem&&)> take_;
  std::function<bool(const std::string&)> only_;
};

/// A container whose entries are found by going through folders: what all file systems have in common.
/// Entries come folder by folder: first everything in a folder, then each of its folders. A folder that
/// cannot be read costs only itself; one that is met twice is not entered again.
class FileTree : public Container {
 public:
  explicit FileTree(const Limits& limits) : limits_(limits) {}

  std::span<const Entry> entries() final;
  void each(Detail detail, const std::function<void(const Entry&)>& visitor) final;
  ContentPtr content(std::size_t index) final;
  Lookup find(std::string_view path) final;

 protected:
  virtual NodeRef root() = 0;
  /// Hands out what lies directly in a folder; may throw after some of it. With Detail::paths only name, kind
  /// and, for folders, ref are needed.
  virtual void list(NodeRef folder, Detail detail, const TreeSink& sink) = 0;
  /// The data of a file. Throws Unsupported or Malformed.
  virtual ContentPtr open(const Entry& entry, NodeRef ref) = 0;
  /// Whether a name fits what was asked for; file systems that ignore case say so here.
  virtual bool same_name(std::string_view stored, std::string_view wanted) const { return stored == wanted; }

  /// What finds an entry again, by its number in entries().
  NodeRef ref_of(std::size_t index) { return entries(), refs_.at(index); }

  /// What listing told about an item that is only half readable: the entry stays, marked as damaged.
  void add_damaged(TreeItem&& item, const std::string& what, const TreeSink& sink);

  /// Hands out an item after `fill(item)` said the rest of it, if that is wanted; where that throws
  /// Malformed, as damaged.
  template <typename Fill>
  void add_filled(TreeItem&& item, const TreeSink& sink, Fill fill) {
    if (!sink.wants_all_of(item.entry.path)) return sink(std::move(item));
    std::string wrong;
    try {
      fill(item);
    } catch (const Malformed& error) {
      wrong = error.what();
    }
    if (!wrong.empty()) return add_damaged(std::move(item), wrong, sink);
    sink(std::move(item));
  }

 private:
  void walk_tree(Detail detail, const TreeSink& sink);

  const Limits& limits_;
  std::once_flag listed_;
  std::vector<Entry> entries_;
  std::vector<NodeRef> refs_;
};

/// A file system whose superblock `read()` reads: where that throws Malformed, which is kept for whoever
/// finds that nobody claims the bytes, they are none. It may also say that there is no mark of one.
template <typename Read>
Match match_superblock(Probe& probe, std::string_view name, Read read) {
  try {
    if constexpr (std::same_as<decltype(read()), bool>) return read() ? Match::front : Match::none;
    read();
    return Match::front;
  } catch (const Malformed& error) {
    probe.add_almost(std::string(name) + ", but " + error.what());
    return Match::none;
  }
}

/// Tells when an image is shorter or longer than what its file system covers; both in bytes.
void compare_sizes(Container& container, std::uint64_t image, std::uint64_t file_system);

/// A value for facts(): "12,345,678 bytes (11.8 MiB)".
std::string size_fact(std::uint64_t bytes);

/// A UUID in the order of its bytes: "0d9e5f4c-...".
std::string uuid_text(ByteView bytes);
/// The same with the first three fields in little-endian order, as in GPT and other tables.
std::string guid_text(ByteView bytes);

}  // namespace operculum
