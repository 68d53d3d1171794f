#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/facts.h"
#include "base/time.h"

namespace operculum {

/// What an entry is to a file system.
enum class EntryKind : std::uint8_t {
  file,
  folder,
  symbolic_link,
  hard_link,
  character_device,
  block_device,
  fifo,
  socket,
};

/// What few entries have. Empty strings and unknown times mean "not stored".
struct EntryExtra {
  std::string link_target;  ///< as stored; for a hard link the path of an entry of the same container
  std::string owner, group;
  std::uint32_t user_id = 0, group_id = 0;
  std::uint32_t device_major = 0, device_minor = 0;
  Timestamp accessed, changed, created;
  std::string comment;
  std::string type_tag;           ///< what the container calls the kind of thing that this is
  ExtendedAttributes attributes;  ///< extended attributes: "user.origin", value
};

/// One thing in a container. Plain data, cheap to move; about 110 bytes beside the path, for there may be
/// millions.
struct Entry {
  static constexpr std::uint64_t kUnknownSize = UINT64_MAX;
  static constexpr std::uint32_t kNoMode = UINT32_MAX;

  enum Flag : std::uint8_t {
    encrypted = 1,   ///< a password or key is needed
    sparse = 2,      ///< has holes that take no space in the container
    has_crc = 4,     ///< crc32 is stored
    damaged = 8,     ///< its header contradicts itself; the data may still be readable
    recovered = 16,  ///< found without the container's index
    has_sum = 32,    ///< a checksum of another kind is stored, and compared when the data is read
  };

  std::string path;  ///< untrusted; '/' between parts, no leading "./"; UTF-8 where the encoding is known
  std::uint64_t size = kUnknownSize;         ///< unpacked, in bytes
  std::uint64_t stored_size = kUnknownSize;  ///< as it lies in the container, in bytes
  /// Where what is stored of it begins, in bytes from the container's beginning; kUnknownSize where that is
  /// not one run, or is known only when the entry is opened.
  std::uint64_t stored_at = kUnknownSize;
  Timestamp modified;
  std::string_view method = "stored";  ///< codec name; static storage
  std::uint32_t mode = kNoMode;        ///< Unix permission bits and set-id bits (07777)
  std::uint32_t crc32 = 0;             ///< of the unpacked bytes, when has_crc
  EntryKind kind = EntryKind::file;
  std::uint8_t flags = 0;
  std::unique_ptr<EntryExtra> extra;

  bool is(Flag flag) const { return (flags & flag) != 0; }
  bool has_data() const { return kind == EntryKind::file; }
  bool size_known() const { return size != kUnknownSize; }
  std::string_view link_target() const {
    return extra ? std::string_view(extra->link_target) : std::string_view();
  }
  EntryExtra& extras() {
    if (!extra) extra = std::make_unique<EntryExtra>();
    return *extra;
  }
};

/// About how many bytes of memory an entry takes.
std::size_t memory_of(const Entry& entry);

/// An entry of its own with all that this one says.
Entry copy_of(const Entry& entry);

/// "file", "folder", "link", "hard link", "character device", "block device", "fifo", "socket".
std::string_view name_of(EntryKind kind);

/// The last part of a path.
std::string_view base_name(std::string_view path);

/// A stored path in the form Entry::path has: without leading "./", without slashes at its end, "." for the
/// root.
std::string clean_path(std::string_view stored);
void clean_in_place(std::string& path);

/// A Unix st_mode's file type as a kind; file when it has none.
EntryKind kind_of_mode(std::uint32_t mode);

}  // namespace operculum
