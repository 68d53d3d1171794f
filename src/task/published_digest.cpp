#include "task/published_digest.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "container/entry.h"
#include "io/file_source.h"

namespace operculum {
namespace {

constexpr std::size_t kDigits = 64;
constexpr std::uint64_t kLargestList = 64 << 20;  // bytes

bool is_digest(std::string_view text) {
  return text.size() == kDigits && from_hex(text).has_value();
}

/// The digest of a line, when it is that of `name`.
std::string digest_in(std::string_view line, std::string_view name) {
  line = trim(line);
  constexpr std::string_view kTagged = "SHA256 (";
  if (line.starts_with(kTagged)) {
    std::size_t end = line.rfind(") = ");
    if (end == std::string_view::npos || base_name(line.substr(kTagged.size(), end - kTagged.size())) != name)
      return "";
    return std::string(line.substr(end + 4));
  }
  if (line.size() < kDigits + 2 || !is_digest(line.substr(0, kDigits))) return "";
  std::string_view own = trim(line.substr(kDigits));
  if (own.starts_with('*')) own.remove_prefix(1);
  return base_name(own) == name ? std::string(line.substr(0, kDigits)) : "";
}

}  // namespace

std::string published_sha256(const std::string& from, const std::string& path) {
  if (is_digest(from)) return to_lower(from);
  SourcePtr list = open_file(from);
  if (list->size() > kLargestList)
    throw Malformed(fmt::format("{} is no list of digests: it is too large", escape(from)));
  Bytes bytes = read_up_to(*list, 0, list->size());
  std::string_view name = base_name(path);
  for (std::string_view line : split(as_text(bytes), '\n')) {
    std::string digest = digest_in(line, name);
    if (is_digest(digest)) return to_lower(digest);
  }
  throw Malformed(fmt::format("{} has no SHA-256 of \"{}\"; expected lines \"DIGEST  NAME\"", escape(from),
                              escape(name)));
}

}  // namespace operculum
