#pragma once

#include <span>
#include <string>
#include <string_view>

#include "base/bytes.h"

struct magic_set;  // libmagic's handle

namespace operculum {

/// Kinds of files as a person sorts them: "image", "sound", "video", "text", "script", "executable",
/// "container", "font", "document", "data", "empty". Safe to use from one thread at a time.
class KindReader {
 public:
  KindReader();  ///< loads libmagic's database; throws IoError when there is none
  ~KindReader();
  KindReader(const KindReader&) = delete;
  KindReader& operator=(const KindReader&) = delete;

  /// By content, from the first bytes of a file. The name only tells scripts from other text.
  std::string_view kind_of(ByteView head, std::string_view name) { return tell(head, name).kind; }

  struct Told {
    std::string_view kind;
    std::string media_type;  ///< "image/png"
  };
  Told tell(ByteView head, std::string_view name);

 private:
  magic_set* magic_;
};

/// All that kind_of() says, for choosing among them.
std::span<const std::string_view> kind_names();

/// How many first bytes kind_of() wants.
constexpr std::size_t kKindHead = 4096;

}  // namespace operculum
