#pragma once

#include "container/rewrite.h"
#include "support/open.h"

namespace operculum::test {

/// Changes to a container of bytes in memory, by path.
class Rewritten {
 public:
  explicit Rewritten(Bytes before, const std::string& name = "sample")
      : name_(name), held_(open_bytes(std::move(before), name)) {}

  Rewritten& set(const std::string& path, std::string_view text);
  Rewritten& add(const std::string& path, std::string_view text);
  Rewritten& add_folder(const std::string& path);
  Rewritten& link(const std::string& path, const std::string& target);  ///< a link's new target
  Rewritten& remove(const std::string& path);
  Rewritten& rename(const std::string& path, const std::string& to);
  Rewritten& method(const std::string& codec);
  Rewritten& password(const std::string& secret);

  Bytes bytes();  ///< of the container with the changes
  Held open() { return open_bytes(bytes(), name_); }
  const std::vector<std::string>& notes() const { return notes_; }

 private:
  std::size_t index_of(const std::string& path);

  std::string name_;
  Held held_;
  Changes changes_;
  PackChoice choice_;
  std::vector<std::string> notes_;
};

}  // namespace operculum::test
