#pragma once

#include <functional>
#include <mutex>
#include <optional>
#include <span>
#include <vector>

#include "base/facts.h"
#include "container/entry.h"
#include "container/installation.h"
#include "io/filling.h"
#include "io/stream.h"

namespace operculum {

class Assembly;
struct Changes;
struct Trimmed;
struct Writing;

/// Something about a container that a person should know.
struct Finding {
  enum class Level {
    note,     ///< odd, but harmless
    warning,  ///< may not be what was meant; the data is there
    fault,    ///< something is missing or damaged
  };
  enum class About {
    container,
    entries,  ///< told again by each entry that it is about, when that is read
  };
  Level level;
  std::string text;
  About about = About::container;
  bool operator==(const Finding&) const = default;
};

/// How the data of a container can be reached.
enum class Access {
  random,   ///< each entry by itself
  forward,  ///< only one after another from the start; walk() is then the way to see many
};

/// What a listing wants to know of its entries.
enum class Detail {
  all,
  numbers,  ///< path, kind, sizes and stored checksum
  paths,    ///< path and kind
};

/// One entry met on a walk.
struct Visit {
  const Entry& entry;
  std::size_t index;     ///< position in stored order
  ContentPtr content;    ///< with random access: the data, usable after the call too; else empty
  Stream* stream;        ///< in a forward walk: the data, only during the call; else null
  std::size_t lane = 0;  ///< not 0: entries of one lane are decoded together, best in order on one thread
  bool checked = false;  ///< a checksum is compared that the entry does not tell of
};

/// What a path leads to within one container.
struct Lookup {
  enum class Kind { nothing, folder, entry };
  Kind kind = Kind::nothing;
  std::string path;                    ///< of the folder, as stored
  std::shared_ptr<const Entry> entry;  ///< with its whole path
  std::size_t consumed = 0;          ///< characters of the path that name the entry; the rest goes on into it
  std::function<ContentPtr()> open;  ///< the data of an entry of kind file
  std::string similar;               ///< when there is nothing: a path that may have been meant
};

/// Bytes that a codec without settings of its own made of an entry's data, and nothing else.
struct PackedRun {
  std::string_view codec;  ///< a name that find_codec() knows
  SourcePtr bytes;
  std::optional<std::uint64_t> plain_size;  ///< of the data, in bytes, where `crc32` is there
  std::optional<std::uint32_t> crc32;       ///< of the data, where the container states it
};

/// A range of a container's bytes.
struct Footprint {
  std::uint64_t at = 0, size = 0;  ///< bytes
};

/// Return false to end the walk.
using Visitor = std::function<bool(const Visit&)>;

class Container;
using ContainerPtr = std::shared_ptr<Container>;

/// A Source that was understood: it has entries, in stored order. Made by a Format. Opening read the index
/// and no entry data. Members may be called from several threads once entries() has returned.
class Container : public std::enable_shared_from_this<Container> {
 public:
  virtual ~Container() = default;

  virtual Access access() const { return Access::random; }

  /// All entries. With forward access this reads the whole container once. What could not be listed because
  /// of damage is told by findings().
  virtual std::span<const Entry> entries() = 0;

  /// Visits all entries without their data, in stored order, and keeps none where the format allows: for
  /// listings of containers with millions of them. The entry given is valid only during the call; with
  /// less than Detail::all only what that names need be filled in.
  virtual void each(Detail detail, const std::function<void(const Entry&)>& visitor);

  /// The data of an entry of kind file, as often as wanted. Keeps the container alive. Throws NeedsKey,
  /// Unsupported or Malformed; the stream may throw them later, too.
  virtual ContentPtr content(std::size_t index) = 0;

  /// The lane of an entry, see Visit.
  virtual std::size_t lane(std::size_t) const { return 0; }

  /// The bytes of an entry as they lie in the container, packed as they are; null where that is not one run.
  virtual SourcePtr stored(std::size_t) { return nullptr; }

  /// The bytes that an entry's data is made from, whatever codecs and ciphers have to be undone; null where
  /// they are not one run.
  virtual SourcePtr packed_run(std::size_t index) { return stored(index); }

  /// The data of an entry as it lies, where one codec alone made it and others can take it over.
  virtual std::optional<PackedRun> packed_alone(std::size_t) { return std::nullopt; }

  /// The ranges of the container's bytes that an entry takes, as far as it is known.
  virtual std::vector<Footprint> footprint(std::size_t index);

  /// The same container with `changes`, as a plan: what nobody changes is kept as it lies. Throws Unsupported
  /// where this kind of container, or this one, cannot be written so.
  virtual Assembly rewrite(const Changes& changes, const Writing& writing);

  /// The same container without filling between and behind what it holds, aligned as the format asks; nothing
  /// where there is none that may go. Throws where the container is damaged.
  virtual std::optional<Trimmed> trimmed(Look look);

  /// Whose entries are written when something in this container is to be changed: itself, or, of a container
  /// that shows what another one holds, that one.
  virtual ContainerPtr written_as() { return shared_from_this(); }

  /// What `path` leads to: the longest run of its parts that is an entry, or a folder. Containers that have
  /// folders of their own find it without listing the rest.
  virtual Lookup find(std::string_view path);

  /// Visits entries in stored order; in forward access with a single pass, and without needing entries()
  /// first.
  virtual void walk(const Visitor& visitor);

  /// Facts about the whole, such as {"comment", "..."} or {"volumes", "3"}, for `identify`.
  virtual Facts facts() { return {}; }

  /// The whole as a text that a person reads, such as the source of a device tree; nothing where there is
  /// none.
  virtual std::optional<std::string> text() { return std::nullopt; }

  /// Whether installation() has something to tell; cheap.
  virtual bool installs() const { return false; }

  /// What an installer would do with what is in here; nothing for what is no installer.
  virtual std::optional<Installation> installation() { return std::nullopt; }

  virtual std::vector<Finding> findings() const;
  void add_finding(Finding::Level level, std::string text,
                   Finding::About about = Finding::About::container);  ///< the same text is kept once

  static constexpr std::size_t kMaxFindings = 200;

 private:
  mutable std::mutex findings_mutex_;
  std::vector<Finding> findings_;
  std::uint64_t more_findings_ = 0;  // beyond the most that are kept
};

}  // namespace operculum
