#pragma once

#include "container/rewrite.h"
#include "support/open.h"

namespace operculum::test {

/// A container made from scratch, of bytes in memory.
class NewContainer {
 public:
  /// `format` is an id of the registry; `method` a codec's name, empty: the usual one.
  explicit NewContainer(const std::string& format, const std::string& method = "");

  NewContainer& add(const std::string& path, std::string_view text);
  NewContainer& add(NewEntry entry);
  Bytes bytes() const;
  Held open() const { return open_bytes(bytes()); }

 private:
  std::string format_, method_;
  std::vector<NewEntry> entries_;
};

}  // namespace operculum::test
