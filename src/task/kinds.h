#pragma once

#include <span>
#include <string>
#include <string_view>

#include "container/probe.h"

struct magic_set;  // libmagic's handle

namespace operculum {

struct OpenContext;

/// Kinds of files as a person sorts them: "image", "sound", "video", "text", "script", "executable",
/// "container", "font", "document", "data", "empty". Safe to use from one thread at a time.
class KindReader {
 public:
  /// Loads libmagic's database; throws IoError when there is none. `context`, whose descriptions are
  /// containers, too, must outlive this.
  explicit KindReader(const OpenContext& context);
  ~KindReader();
  KindReader(const KindReader&) = delete;
  KindReader& operator=(const KindReader&) = delete;

  struct Told {
    std::string_view kind;
    std::string media_type;  ///< "image/png"
  };
  /// By content: what the probe can reach tells containers, the first kKindHead bytes the rest. The name only
  /// tells scripts from other text.
  Told tell(Probe& probe, std::string_view name);
  /// The same of what is known to be no container.
  Told tell_leaf(Probe& probe, std::string_view name);
  /// The kind alone, which is quicker: libmagic is asked only where a glance is not enough (quick_kind.h).
  std::string_view kind(Probe& probe, std::string_view name);
  /// In words, as far as libmagic goes: a guess. Empty when it has none.
  std::string describe(Probe& probe);

 private:
  Told glance(ByteView head);
  std::string media_type_of(ByteView head);
  template <typename Otherwise>
  std::string_view kind_by(Probe& probe, std::string_view name, Otherwise otherwise);

  const OpenContext& context_;
  magic_set* magic_;
};

/// All kinds, for choosing among them.
std::span<const std::string_view> kind_names();

/// How many first bytes a file that is no container is told by.
constexpr std::size_t kKindHead = 4096;

}  // namespace operculum
