#pragma once

#include <string>
#include <vector>

#include "container/format.h"

namespace operculum::test {

struct File {
  std::string name;
  Bytes data;
  bool operator==(const File&) const = default;
};

/// Files of noise with made-up names, for a small pack.
std::vector<File> exhibits(std::size_t count);

/// What a study of the bytes drafts, and what that finds in them; "none" where it is not sure of any.
struct Studied {
  std::string draft;
  std::vector<File> files;
};
Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors, OpenContext& context);
Studied studied(const Bytes& bytes, std::vector<std::uint64_t> anchors = {});

}  // namespace operculum::test
