#pragma once

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/facts.h"
#include "codec/pack_settings.h"
#include "container/container.h"
#include "io/assembly.h"
#include "io/spool.h"
#include "io/stream.h"

namespace operculum {

/// Something to be put into a container: what it holds and what is to be kept about it.
struct NewEntry {
  std::string path;  ///< in the form of Entry::path
  EntryKind kind = EntryKind::file;
  ContentPtr content;         ///< of files
  std::uint64_t size = 0;     ///< of the content, in bytes
  std::string link_target;    ///< of links
  std::uint32_t mode = 0644;  ///< permission bits
  Timestamp modified;
  std::uint32_t user_id = 0, group_id = 0;
  std::string owner, group;
  std::uint32_t device_major = 0, device_minor = 0;  ///< of devices
  ExtendedAttributes attributes;                     ///< extended attributes
  std::optional<PackedRun> packed = {};  ///< the content as it lies packed elsewhere, for who packs alike
};

/// What is to become of a container's entries, named by their index in Container::entries(). What is not
/// named stays as it is.
struct Changes {
  std::map<std::size_t, NewEntry> replaced;  ///< new content; all else about the entry stays
  std::set<std::size_t> removed;
  std::map<std::size_t, std::string> renamed;  ///< to paths; may be replaced, too
  std::vector<NewEntry> added;                 ///< behind all that is there

  bool empty() const { return replaced.empty() && removed.empty() && renamed.empty() && added.empty(); }
};

/// How new content is packed.
struct PackChoice {
  std::string method;         ///< a codec's name; empty: as the entry was, or as most are
  std::optional<int> level;   ///< nothing: as the entry was, where that can be found out
  unsigned jobs = 0;          ///< threads; 0: one for each processor
  bool seek_settings = true;  ///< look for the settings that the original was packed with
};

/// A file beside a container that its entries lie in, too, as it is to be.
struct FileBeside {
  std::string name;  ///< as the container calls it
  SourcePtr bytes;
  SourcePtr before;      ///< as it was
  bool changed = false;  ///< `bytes` are other ones
};

/// What formats need to write, and where they tell what a person should know of it.
struct Writing {
  PackChoice choice;
  SpoolBudget& spool;
  std::function<void(const std::string& path, const std::string& sentence)> note;
  /// Takes all files beside the container that it consists of; where it is not there, changes to them are
  /// refused.
  std::function<void(FileBeside)> beside = {};
};

/// Content that was packed, and what its headers want to know.
struct PackedContent {
  SourcePtr bytes;
  std::uint64_t plain_size = 0;  ///< in bytes
  std::uint32_t crc32 = 0;       ///< of the plain bytes
};

/// Packs a content into the spool. Throws what the content throws, Unsupported, LimitExceeded.
PackedContent pack_content(const Content& content, std::string_view codec, const PackSettings& settings,
                           SpoolBudget& spool);

/// As many as were asked for, or as there are processors.
unsigned threads_of(const PackChoice& choice);

/// How an entry's new content is to be packed: as `original` was, which holds the stored bytes of `plain`;
/// what was chosen comes first. Where no settings give the original's bytes, that is told in a note.
PackSettings settings_like(std::string_view codec, const SourcePtr& original, const Content& plain,
                           std::uint64_t plain_size, const std::string& path, const Writing& writing);

}  // namespace operculum
