#pragma once

#include <string>
#include <string_view>

namespace operculum {

/// Watches names for some that are no UTF-8 and do not say in which encoding they are.
class NameEncoding {
 public:
  void look(std::string_view path);

  /// A sentence for a person: how many names, and what an encoding that suits them would give. Empty when all
  /// names are UTF-8.
  std::string hint() const;

 private:
  std::uint64_t count_ = 0;
  std::string first_, all_;  // the first such name of usual length, and a sample of their bytes
};

}  // namespace operculum
