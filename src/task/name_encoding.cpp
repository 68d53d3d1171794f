#include "task/name_encoding.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "base/units.h"

namespace operculum {
namespace {

constexpr std::size_t kSample = 4096;  // bytes of names

// Encodings that many old archives have; the first in which all names mean something is named.
constexpr const char* kEncodings[] = {"CP932", "EUC-JP", "GB18030", "BIG5", "EUC-KR", "CP1252", "CP437"};

}  // namespace

void NameEncoding::look(std::string_view path) {
  if (is_ascii(path) || is_utf8(path)) return;
  ++count_;
  if (all_.size() + path.size() >= kSample) return;
  if (all_.empty()) first_ = path;
  all_ += std::string(path) + "\n";
}

std::string NameEncoding::hint() const {
  if (count_ == 0) return "";
  auto fits = [this](const char* encoding) { return to_utf8(all_, encoding).has_value(); };
  auto encoding =
      all_.empty() ? std::end(kEncodings) : std::find_if(std::begin(kEncodings), std::end(kEncodings), fits);
  std::string names = counted(count_, "name is", "names are");
  if (encoding == std::end(kEncodings))
    return fmt::format("{} no UTF-8; --names-in ENCODING says what else", names);
  return fmt::format("{} no UTF-8; --names-in {} would give \"{}\"", names, *encoding,
                     escape(to_utf8(first_, *encoding).value_or(first_)));
}

}  // namespace operculum
